"""Addresses for programs. They sign in with keys, not with sessions."""

from django.contrib.auth.decorators import login_not_required

from greyanchor.api.interface import api
from greyanchor.api.printroom import artwork_receive
from greyanchor.api.views import mode_list

assert mode_list and artwork_receive, "operations are part of the interface once their module is loaded"
patterns, app_name, namespace = api.urls
for pattern in patterns:
    pattern.callback = login_not_required(pattern.callback)
served = (patterns, app_name, namespace)
