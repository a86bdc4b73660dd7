"""Sessions that end, and a second factor where the shop's rules require one."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect

from greyanchor.accounts import access
from greyanchor.web.answers import asked_by_script

#: set in a session whose person must set a second factor up before anything else
MUST_SET_UP = "must_set_up_factor"
#: set in what follows a session that ended by itself; the sign-in page says so
WAS_OVER = "was_over"
#: pages that such a person reaches
_OPEN = ("/account/", "/sign-out/", "/static/", "/healthz", "/readyz")


class Sessions:
    """Ends sessions that were idle or lasted too long; a page that asks by itself keeps none alive."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.user.is_authenticated:
            is_step = request.method not in ("GET", "HEAD") or not asked_by_script(request)
            if access.is_over(request.session, is_step):
                logout(request)
                request.session[WAS_OVER] = True
            elif request.session.get(MUST_SET_UP) and not request.path.startswith(_OPEN):
                return redirect("account")
        return self.get_response(request)
