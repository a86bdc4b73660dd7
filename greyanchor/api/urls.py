"""Addresses for programs. They sign in with keys, not with sessions."""

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, JsonResponse
from django.urls import re_path
from django.views.decorators.csrf import csrf_exempt

from greyanchor.api.interface import api
from greyanchor.api.printroom import artwork_receive
from greyanchor.api.views import mode_list

assert mode_list and artwork_receive, "operations are part of the interface once their module is loaded"
patterns, app_name, namespace = api.urls
for pattern in patterns:
    pattern.callback = login_not_required(pattern.callback)


@csrf_exempt
@login_not_required
def nothing_here(request: HttpRequest) -> JsonResponse:
    """What a program is answered at an address that is none, or whose number is no number."""
    return JsonResponse({"error": "there is no such address"}, status=404)


patterns.append(re_path(r"^[\s\S]*$", nothing_here, name="api-nothing"))
served = (patterns, app_name, namespace)
