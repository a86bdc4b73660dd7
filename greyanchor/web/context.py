"""What every page knows of who looks at it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from greyanchor.accounts.roles import MAKE, RELEASE, role_of
from greyanchor.background.line import notice
from greyanchor.web.answers import page_of
from greyanchor.web.navigation import area_of, bar, tabs
from greyanchor.web.trouble import on_the_disk


@dataclass(frozen=True)
class _Reach:
    """A role as templates ask for it."""

    word: str
    makes: bool
    releases: bool


def role(request: HttpRequest) -> dict[str, Any]:
    """The role of the person who is signed in, looked up when a page asks."""

    def found() -> _Reach:
        held = role_of(request.user)
        return _Reach(held.word, held >= MAKE, held >= RELEASE)

    return {"role": SimpleLazyObject(found)} if request.user.is_authenticated else {}


def navigation(request: HttpRequest) -> dict[str, Any]:
    """The bar and the tabs, with where one is; asked for by pages that show them."""
    match = request.resolver_match
    area = area_of(match)
    return {
        "bar": SimpleLazyObject(lambda: bar(match)),
        "tabs": SimpleLazyObject(lambda: tabs(match)),
        "area": area.title if area else "",
        "page_sent_from": page_of(request),
        "trouble": SimpleLazyObject(lambda: notice() or on_the_disk()),
    }
