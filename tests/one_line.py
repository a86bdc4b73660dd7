"""Pages as a person reads them: line breaks of the templates do not count, as they do not in a browser."""

from __future__ import annotations

import re
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

_BLOCKS = (
    "html head body main header footer nav section article aside div p h1 h2 h3 h4 ul ol li dl dt dd table "
    "thead tbody "
    "tfoot tr th td form fieldset legend details summary select option optgroup br progress button "
    "label output"
).replace(" ", "|")
_AROUND = re.compile(rf"\s*(</?(?:{_BLOCKS})\b(?:\"[^\"]*\"|'[^']*'|[^>\"'])*>)\s*")
_VERBATIM = re.compile(r"(<(textarea|pre|script)\b.*?</\2>)", re.DOTALL)


def one_line(html: str) -> str:
    """`html` without the white space that a browser does not show."""
    parts = _VERBATIM.split(html)
    out = []
    for i in range(0, len(parts), 3):
        out.append(_AROUND.sub(r"\1", re.sub(r"\s+", " ", parts[i])))
        out.extend(parts[i + 1 : i + 2])
    return "".join(out)


class OneLine:
    """Middleware of the test settings: every page comes as `one_line` of it."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        if response.get("Content-Type", "").startswith("text/html") and not response.streaming:
            response.content = one_line(response.content.decode()).encode()
        return response
