"""The description, for anybody: it says nothing of the shop."""

from __future__ import annotations

from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.http import require_GET

from greyanchor.api.document import document


@login_not_required
@require_GET
def api_document(request: HttpRequest) -> HttpResponse:
    return JsonResponse(document(), json_dumps_params={"indent": 1})
