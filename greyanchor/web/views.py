"""Start page, sign-in, and pages for what went wrong."""

from __future__ import annotations

import sys
from typing import Any

from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView
from django.db import InterfaceError, OperationalError, connection
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.utils.decorators import method_decorator
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_GET

from greyanchor.accounts import mail
from greyanchor.accounts.first import nobody_yet
from greyanchor.builds.queries import desk
from greyanchor.checks.trends import attention
from greyanchor.colours import lights
from greyanchor.demo.accounts import ACCOUNTS, SHOP
from greyanchor.library.machines.readiness import wanted
from greyanchor.library.modes.pins import pinned
from greyanchor.library.packs.catalogue import newer
from greyanchor.unattended.queries import nights
from greyanchor.web import first, health
from greyanchor.web.account import signed_in
from greyanchor.web.answers import asked_by_script, signed_out
from greyanchor.web.line import unreachable
from greyanchor.web.sessions import WAS_OVER
from greyanchor.web.trouble import of_error, on_the_disk

#: whom figures for a monitor are given to
_LOOPBACK = ("127.0.0.1", "::1")


@require_GET
def start(request: HttpRequest) -> HttpResponse:
    readying = wanted()
    return render(
        request,
        "web/start.html",
        {
            **desk(request.user),
            **attention(),
            "readying": readying,
            "overdue": sum(d.due.overdue for d in readying),
            "lights": lights.wanted(),
            "nights": nights(),
            "newer": newer(),
            "pinned": pinned(request.user),
            "steps": first.steps(),
            "empty": first.without_machines(),
        },
    )


@never_cache
@require_GET
@login_not_required
def alive(request: HttpRequest) -> HttpResponse:
    """This process answers; nothing else is asked."""
    return HttpResponse("alive\n", content_type="text/plain")


@never_cache
@require_GET
@login_not_required
def ready(request: HttpRequest) -> HttpResponse:
    """Whether requests should be sent here: 503 where database, queue or storage cannot be reached."""
    found = health.looked_at(health.NEEDED)
    well = all(f.state != health.BAD for f in found)
    facts = {"ready": well, **{f.name: f.state for f in found}}  # the words stay inside
    return JsonResponse(facts, status=200 if well else 503)


@never_cache
@require_GET
@login_not_required
def figures(request: HttpRequest) -> HttpResponse:
    """Figures for a monitor on this machine."""
    if request.META.get("REMOTE_ADDR") not in _LOOPBACK or "X-Forwarded-For" in request.headers:
        raise Http404
    return HttpResponse(health.metrics(), content_type="text/plain; version=0.0.4; charset=utf-8")


@method_decorator(login_not_required, name="dispatch")
class SignIn(LoginView):
    """The only page a visitor sees without an account."""

    template_name = "web/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: Any) -> dict[str, Any]:
        accounts = ACCOUNTS if settings.DEMO else ()
        return {
            **super().get_context_data(**kwargs),
            "accounts": accounts,
            "demo_shop": SHOP,
            "nobody_yet": nobody_yet(),
            "provider": bool(settings.OIDC_ISSUER),
            "has_mail": mail.is_here(),
            "was_over": self.request.session.pop(WAS_OVER, False),
        }

    def form_valid(self, form: Any) -> HttpResponse:
        return signed_in(self.request, form.get_user(), self.get_success_url())


@login_not_required
def locked_out(request: HttpRequest, *_: Any) -> HttpResponse:
    """Too many wrong passwords for a name from an address."""
    minutes = round(60 * settings.AXES_COOLOFF_TIME)
    context = {
        "title": "Too many wrong passwords",
        "text": f"This name is locked for {minutes} minutes at this computer. Wait, or ask a lead for a link "
        "to set a new password.",
    }
    return render(request, "web/notice.html", context, status=429)


@login_not_required
def not_allowed(request: HttpRequest, exception: Exception) -> HttpResponse:
    text = str(exception) or "This account may not do that."
    context = {"title": "Your role does not allow this", "text": f"{text} Nothing was changed."}
    return render(request, "web/notice.html", context, status=403)


@login_not_required
def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    context = {"title": "Nothing is here", "text": "The address is wrong, or what it led to was removed."}
    return render(request, "web/notice.html", context, status=404)


@login_not_required
def server_error(request: HttpRequest) -> HttpResponse:
    error = sys.exc_info()[1] or Exception()
    said = of_error(error) or on_the_disk()
    away = isinstance(error, InterfaceError) or (
        isinstance(error, OperationalError) and connection.vendor != "sqlite"
    )
    if not said and away:
        return unreachable(request)
    context = {
        "title": said.partition(".")[0] if said else "The program failed",
        "text": "Nothing was half saved. Try again; if it happens again, ask whoever runs this server.",
    }
    return render(request, "web/notice.html", context, status=507 if said else 500)


@login_not_required
def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    if asked_by_script(request) and not request.user.is_authenticated:
        return signed_out()
    context = {
        "title": "This page was open too long",
        "text": "Go back, load the page again and repeat the step. Nothing was changed.",
    }
    return render(request, "web/notice.html", context, status=403)
