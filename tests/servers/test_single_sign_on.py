"""Signing in by an OpenID provider that others wrote."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import pytest
import requests

from tests.servers.conftest import HERE, Shop, answers, free_port, wait_for

pytestmark = pytest.mark.slow

ISSUED_TO = {"GREYANCHOR_OIDC_ID": "grey-anchor", "GREYANCHOR_OIDC_SECRET": "made up for a test"}
PEOPLE = {"sub-1": "ines", "sub-2": "stranger"}


@pytest.fixture(scope="module")
def provider() -> Iterator[str]:
    port = free_port()
    claims = [json.dumps({"sub": s, "preferred_username": n}) for s, n in PEOPLE.items()]
    users = [part for c in claims for part in ("--user-claims", c)]
    command = [sys.executable, "-m", "oidc_provider_mock", "--port", str(port), *users]
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    wait_for(lambda: answers(port))
    yield f"http://{HERE}:{port}"
    running.kill()
    running.wait()


@pytest.fixture(scope="module")
def shop(served_home: Path, provider: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Shop]:
    home = tmp_path_factory.mktemp("provided") / "home"
    shutil.copytree(served_home, home)
    made = Shop(home, GREYANCHOR_OIDC=provider, **ISSUED_TO)
    made.start()
    yield made
    made.stop()


def _come_by(shop: Shop, subject: str, where: str = "/media/") -> tuple[requests.Session, requests.Response]:
    """Go to the provider, say there who one is, and come back."""
    visitor = requests.Session()
    there = visitor.get(f"{shop.url}/sign-in/provider/", params={"next": where}, timeout=30)
    assert urlsplit(there.url).path.startswith("/oauth2/authorize"), there.url
    return visitor, visitor.post(there.url, data={"sub": subject}, timeout=30)


def test_somebody_with_an_account_comes_in_and_is_led_on(shop: Shop) -> None:
    assert "shop's provider" in " ".join(requests.get(f"{shop.url}/sign-in/", timeout=30).text.split())
    visitor, back = _come_by(shop, "sub-1")
    assert back.url == f"{shop.url}/media/" and "Harbour Proof Semimatt 235" in back.text
    assert "Signs in as" in visitor.get(f"{shop.url}/account/", timeout=30).text


def test_who_has_no_account_gets_none(shop: Shop) -> None:
    visitor, back = _come_by(shop, "sub-2")
    assert urlsplit(back.url).path == "/sign-in/" and "Nobody here signs in as" in back.text
    assert urlsplit(visitor.get(f"{shop.url}/media/", timeout=30).url).path == "/sign-in/"


def test_an_answer_that_nobody_asked_for_is_refused(shop: Shop) -> None:
    forged = requests.get(f"{shop.url}/sign-in/back/", params={"code": "x", "state": "y"}, timeout=30)
    assert urlsplit(forged.url).path == "/sign-in/"
    visitor = requests.Session()
    visitor.get(f"{shop.url}/sign-in/provider/", timeout=30)
    other = visitor.get(f"{shop.url}/sign-in/back/", params={"code": "x", "state": "y"}, timeout=30)
    assert urlsplit(other.url).path == "/sign-in/" and "was refused" in other.text


def test_a_token_of_another_program_is_refused(served_home: Path, provider: str, tmp_path: Path) -> None:
    home = tmp_path / "home"
    shutil.copytree(served_home, home)
    other = Shop(home, GREYANCHOR_OIDC=provider, **ISSUED_TO)
    said = other.run(
        "import django; django.setup()\n"
        "from unittest import mock\n"
        "from django.core.exceptions import SuspiciousOperation\n"
        "from mozilla_django_oidc.auth import OIDCAuthenticationBackend as Base\n"
        "from greyanchor.accounts.single_sign_on import ByProvider\n"
        "for claims in ({'aud': 'another'}, {'aud': 'grey-anchor', 'iss': 'http://elsewhere'}):\n"
        "    with mock.patch.object(Base, 'verify_token', lambda *a, **k: claims):\n"
        "        try:\n"
        "            ByProvider().verify_token('x')\n"
        "        except SuspiciousOperation as error:\n"
        "            print(error)\n"
    )
    assert said.splitlines() == ["the token is for another program", "the token is of another provider"]


def test_passwords_go_on_while_the_provider_is_away(shop: Shop, provider: str) -> None:
    visitor = requests.Session()
    page = visitor.get(f"{shop.url}/sign-in/", timeout=30)
    token = page.text.split('name="csrfmiddlewaretoken" value="')[1].split('"')[0]
    done = visitor.post(
        f"{shop.url}/sign-in/",
        data={"csrfmiddlewaretoken": token, "username": "ines", "password": "quay-street-1"},
        headers={"Referer": f"{shop.url}/sign-in/"},
        timeout=30,
    )
    assert "What needs doing" in done.text
