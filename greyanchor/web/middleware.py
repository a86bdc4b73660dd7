"""Time on the server, the log of requests, and refusals that no view said the person about."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable

import structlog
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from structlog.contextvars import bound_contextvars

from greyanchor.accounts.roles import acting
from greyanchor.core.errors import BadInput
from greyanchor.web.health import count
from greyanchor.web.trouble import of_error

#: what monitors ask every few seconds is not worth a line
_QUIET = ("/healthz", "/readyz", "/metrics")
#: views whose address or query is a secret
_SECRET = ("new-password", "first-account", "sign-in-back")
_log = structlog.get_logger(__name__)


class ServerTiming:
    """Adds ``Server-Timing`` to every answer, in milliseconds."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        began = time.perf_counter()
        response = self.get_response(request)
        response["Server-Timing"] = f"app;dur={1000 * (time.perf_counter() - began):.1f}"
        return response


class RequestLog:
    """Writes one line a request into the log: who, what, how it was answered and how long it took.

    Every line that is written meanwhile has the request's number, which the answer names as
    ``X-Request-ID``; background work that the request queued has it too.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        began = time.perf_counter()
        number = secrets.token_hex(6)
        with bound_contextvars(request=number):
            response = self._logged(request, began)
        response["X-Request-ID"] = number
        return response

    def _logged(self, request: HttpRequest, began: float) -> HttpResponse:
        response = self.get_response(request)
        took = time.perf_counter() - began
        count(response.status_code, took)
        if request.path in _QUIET and response.status_code == 200:
            return response
        user = getattr(request, "user", None)
        _log.info(
            "request",
            method=request.method,
            address=_address(request),
            user=user.get_username() if user is not None and user.is_authenticated else "",
            remote=request.META.get("REMOTE_ADDR", ""),
            status=response.status_code,
            ms=round(1000 * took, 1),
        )
        return response


def _address(request: HttpRequest) -> str:
    """What was asked for, without what opens something by itself: links that count once, and codes."""
    match = request.resolver_match
    if match is None or match.url_name not in _SECRET:
        return request.get_full_path()
    token = match.kwargs.get("token", "")
    return request.path.replace(token, "…") if token else request.path


class Refusals:
    """Turns a `BadInput` that reached the top into a page that says what happened."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if said := of_error(error):
            _log.error("the disk refused", reason=str(error))
            context = {
                "title": said.rstrip("."),
                "text": "Nothing was half saved. Ask whoever runs this server.",
            }
            return render(request, "web/notice.html", context, status=507)
        if not isinstance(error, BadInput):
            return None
        context = {
            "title": "That cannot be done",
            "text": f"{error.sentence} Nothing was changed.",
        }
        return render(request, "web/notice.html", context, status=409)


class Acting:
    """Services know who sent the request, so that roles hold whatever a view hands on."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        with acting(request.user):
            return self.get_response(request)
