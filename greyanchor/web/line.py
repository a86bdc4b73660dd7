"""Pages while the line to the shop's database is cut, and sessions that are not written then."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib.sessions.backends import db
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.template.loader import render_to_string

from greyanchor.background import line


class SessionStore(db.SessionStore):
    """Sessions in the database; what changes in one while it is read from the copy is not kept."""

    def save(self, must_create: bool = False) -> None:
        if not line.reads_copy():
            super().save(must_create)


class Line:
    """Answers from the site's copy while the line is cut; what would change something is refused at once.

    The first request after a cut waits a few seconds for the database; those after it do not.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if not line.keeps_a_copy() or not line.line.is_cut():
            return self.get_response(request)
        if request.path in ("/healthz", "/readyz", "/metrics"):
            return self.get_response(request)
        with line.from_copy():
            if line.copied_at() is None or request.method not in ("GET", "HEAD"):
                return _refused(request)
            response = self.get_response(request)
        if response.status_code == 200:
            response["Cache-Control"] = "no-store"  # it is older than it looks
        return response


def unreachable(request: HttpRequest) -> HttpResponse:
    """What is answered while the database cannot be reached, by a page that asks nothing of it."""
    words = "Nothing was changed. Try again in a minute; if it lasts, ask whoever runs this server."
    return _notice(request, "The database cannot be reached", words)


def _refused(request: HttpRequest) -> HttpResponse:
    text = "The line to the shop's database is cut. Nothing was changed; do it again once it is back."
    return _notice(request, "The line is cut", text)


def _notice(request: HttpRequest, title: str, words: str) -> HttpResponse:
    if request.path.startswith("/api/"):
        answer = JsonResponse({"error": f"{title}. {words}"}, status=503)
        answer["Retry-After"] = "60"
        return answer
    text = render_to_string("web/cut.html", {"title": title, "text": words})
    return HttpResponse(text, status=503, headers={"Retry-After": "60"})
