"""Where a page belongs is decided by its view."""

from __future__ import annotations

import re
from html import unescape

import pytest
from django.test import Client
from django.urls import resolve

from greyanchor.web.navigation import AREAS


def marked(page: str) -> list[str]:
    """Titles of the links that are marked as where one is."""
    return [unescape(w.strip()) for w in re.findall(r'<a[^>]*aria-current="page"[^>]*>([^<]*)', page)]


@pytest.mark.parametrize(
    ("address", "titles"),
    [
        ("/modes/", ["Print modes", "Find"]),
        ("/printers/", ["Printers", "Printers"]),
        ("/devices/", ["Printers", "Devices"]),
        ("/media/", ["Media", "Media"]),
        ("/profiles/", ["Profiles"]),
        ("/checks/trends/", ["Checks", "Trends"]),
    ],
)
def test_the_bar_and_the_tabs_say_where_one_is(client: Client, address: str, titles: list[str]) -> None:
    assert marked(client.get(address).content.decode()) == titles


def test_an_address_that_only_begins_alike_is_not_marked(client: Client) -> None:
    page = client.get("/modes-of-nothing/").content.decode()
    assert marked(page) == []


def test_every_tab_leads_to_a_view_of_its_area(client: Client) -> None:
    seen = 0
    for area in AREAS:
        page = client.get(resolve_address(area.view), follow=True).content.decode()
        assert marked(page)[:1] == [area.title], area.title
        for tab in area.tabs:
            address = resolve_address(tab.view, tab.args)
            page = client.get(address, follow=True).content.decode()
            assert marked(page) == [area.title, tab.title], (address, marked(page))
            assert resolve(address.split("?")[0]).url_name == tab.view
            seen += 1
    assert seen > 8


def resolve_address(view: str, args: tuple[str, ...] = ()) -> str:
    from django.urls import reverse

    return reverse(view, args=args)
