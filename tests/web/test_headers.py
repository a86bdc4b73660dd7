"""What browsers are asked beside the pages, and that pages hold nothing that could be planted."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.core import cells

TEMPLATES = sorted((Path(__file__).parents[2] / "greyanchor").rglob("*.html"))


def test_every_page_says_what_it_may_load_and_lends_no_devices(client: Client, user: User) -> None:
    client.force_login(user)
    for address in ("/", "/modes/", "/shop/audit/", "/sign-in/", "/nothing/here/"):
        answer = client.get(address)
        policy = answer.headers["Content-Security-Policy"]
        assert (
            "default-src 'self'" in policy and "unsafe" not in policy and "frame-ancestors 'none'" in policy
        )
        assert answer.headers["X-Frame-Options"] == "DENY"
        assert answer.headers["Referrer-Policy"] == "same-origin"
        assert "camera=()" in answer.headers["Permissions-Policy"]


def test_pages_of_somebody_are_kept_for_nobody_else(client: Client, user: User) -> None:
    client.force_login(user)
    page = client.get("/modes/")
    assert page.headers["Cache-Control"] == "private, no-cache" and "Cookie" in page.headers["Vary"]
    out = client.post("/sign-out/")
    assert out.headers["Clear-Site-Data"] == '"cache"'
    assert "Clear-Site-Data" not in Client().get("/sign-in/").headers


@pytest.mark.parametrize("path", TEMPLATES, ids=lambda p: p.name)
def test_no_template_has_a_style_or_a_script_within(path: Path) -> None:
    text = path.read_text()
    assert not re.search(r'(?<![-\w])style\s*=\s*"', text), "use data-style, or a class"
    assert not re.search(r"<style|<script(?![^>]*\bsrc=)", text)
    assert not re.search(r'\son[a-z]+\s*=\s*"|javascript:', text)


@pytest.mark.parametrize(
    ("cell", "written"),
    [
        ("=1+1", "'=1+1"), ("@SUM(A1)", "'@SUM(A1)"), ("+cmd|' /C calc'!A0", "'+cmd|' /C calc'!A0"),
        ("\t=1", "'\t=1"), (" =1", "' =1"), ("-x", "'-x"), ("-1.5", "-1.5"), ("+2", "+2"), ("1e-5", "1e-5"),
        ("Deep water", "Deep water"), (-3.5, -3.5), (None, None), ("", ""),
    ],
    ids=range(13),
)  # fmt: skip
def test_cells_that_a_spreadsheet_would_run_are_made_harmless(cell: object, written: object) -> None:
    assert cells.harmless(cell) == written
    if isinstance(cell, str):
        assert cells.as_meant(str(written)) == cell
    assert cells.as_meant("'tis") == "'tis"
