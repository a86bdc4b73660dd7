"""Pages while the line to the shop's database is cut, and sessions that are not written then."""

from __future__ import annotations

from collections.abc import Callable

from django.contrib.sessions.backends import db
from django.http import HttpRequest, HttpResponse
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


def _refused(request: HttpRequest) -> HttpResponse:
    if request.path.startswith("/api/"):
        text = '{"detail": "the line to the database is cut; ask again later"}'
        return HttpResponse(text, status=503, content_type="application/json", headers={"Retry-After": "60"})
    text = render_to_string(
        "web/cut.html",
        {"text": "The line to the shop's database is cut. Nothing was changed; do it again once it is back."},
    )
    return HttpResponse(text, status=503, headers={"Retry-After": "60"})
