"""Answers to scripts of the pages: a redirect is led to by the page itself, a refusal stays on its page with
what was typed, and who is signed out is asked to sign in there.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.contrib import messages
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.contrib.messages import get_messages
from django.contrib.messages.storage.base import Message
from django.http import HttpRequest, HttpResponse
from django.utils.html import format_html_join

#: the header by which a page's script sends a form that a browser would send by itself
FORM_HEADER = "X-Page-Form"


def asked_by_script(request: HttpRequest) -> bool:
    """Whether a script of a page asked: for a part of it, or with one of its forms."""
    return any(h in request.headers for h in ("HX-Request", FORM_HEADER, "X-Page-Part"))


def signed_out() -> HttpResponse:
    """What a script is answered when nobody is signed in; the page asks to sign in again."""
    return HttpResponse("You are signed out.", status=401, content_type="text/plain")


def page_of(request: HttpRequest) -> str:
    """The page of this application that a request was sent from; empty where it is not known."""
    sent = urlsplit(request.headers.get("Referer", ""))
    if sent.netloc != request.get_host():
        return ""
    return sent.path + (f"?{sent.query}" if sent.query else "")


class SignedOut(LoginRequiredMiddleware):
    """Who is not signed in gets the sign-in page, which leads back; a script is answered 401."""

    def handle_no_permission(self, request: HttpRequest, view_func: Any) -> HttpResponse:
        if asked_by_script(request):
            return signed_out()
        if request.method != "GET":  # what a form is sent to is no page to come back to
            from django.contrib.auth.views import redirect_to_login

            return redirect_to_login(page_of(request) or "/", settings.LOGIN_URL)
        return super().handle_no_permission(request, view_func)


class FormAnswers:
    """Turns what a browser would follow by itself into headers, for forms that a script sends."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        if FORM_HEADER not in request.headers or not 300 <= response.status_code < 400:
            return response
        refused = _refusals(request)
        if refused and urlsplit(response["Location"]).path == urlsplit(page_of(request)).path:
            text = format_html_join("", "<p>{}</p>", ((m.message,) for m in refused))
            kind = "stale" if any("stale" in m.tags for m in refused) else "kept"
            answer = HttpResponse(text, status=422, headers={"X-Refused": kind})
        else:
            answer = HttpResponse(status=204, headers={"X-Location": response["Location"]})
        answer.cookies = response.cookies
        return answer


def _refusals(request: HttpRequest) -> list[Message]:
    """What the request was refused for, where nothing else was said; taken from what the next page says."""
    stored = get_messages(request)
    queued = list(getattr(stored, "_queued_messages", ()))
    if not queued or any(m.level < messages.ERROR for m in queued):
        return []
    stored._queued_messages.clear()  # type: ignore[union-attr]
    return queued
