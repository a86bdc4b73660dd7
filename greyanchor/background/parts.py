"""Answers to a page that asks how its work goes."""

from __future__ import annotations

import json

from django.http import HttpResponse
from django.utils.html import format_html

#: asked again no more, by htmx
STOP_ASKING = 286


def ended(said: str) -> HttpResponse:
    """The work ended: the page stops asking, and shows what there is now once nobody types on it."""
    line = format_html('<p class="mb-0">{} <a href="">Show it</a></p>', said)
    return HttpResponse(line, status=STOP_ASKING, headers=stale(said))


def stale(said: str) -> dict[str, str]:
    """Headers by which a part says that its page has more to show."""
    return {"HX-Trigger": json.dumps({"page-stale": said})}
