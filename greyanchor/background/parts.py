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


def last_shown(answer: HttpResponse, said: str) -> HttpResponse:
    """The last state of a work as a part: the page stops asking, and hears that it has more to show."""
    answer.status_code = STOP_ASKING
    for name, value in stale(said).items():
        answer[name] = value
    return answer


def stale(said: str) -> dict[str, str]:
    """Headers by which a part says that its page has more to show."""
    return {"HX-Trigger": json.dumps({"page-stale": said})}
