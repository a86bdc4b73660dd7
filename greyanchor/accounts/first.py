"""The first account of a shop: made once, by whoever can read what the server printed.

While nobody has an account, the server makes a link each time it starts and keeps its hash; the newest
counts, and it ends with the account that it makes.
"""

from __future__ import annotations

import secrets

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.models import FirstLink, Site
from greyanchor.accounts.people import add_person, add_site
from greyanchor.accounts.roles import RELEASE
from greyanchor.core.errors import BadInput


def nobody_yet() -> bool:
    """Whether no account exists."""
    return not User.objects.exists()


@transaction.atomic
def make_link() -> str:
    """A new token for the first account; earlier ones end."""
    token = secrets.token_urlsafe(24)
    FirstLink.objects.all().delete()
    FirstLink.objects.create(digest=FirstLink.digest_of(token))
    return token


def is_open(token: str) -> bool:
    """Whether `token` still makes the first account."""
    return nobody_yet() and FirstLink.objects.filter(digest=FirstLink.digest_of(token)).exists()


@transaction.atomic
def make_first(token: str, username: str, first: str, last: str, password: str, site: str) -> User:
    """Make the first account, a lead, at a first site, and end the link.

    Raises `BadInput` for a link that was used or replaced, and for a name or password that is refused; then
    nothing is made and the link stays.
    """
    taken, _ = FirstLink.objects.filter(digest=FirstLink.digest_of(token)).delete()
    if not taken or not nobody_yet():
        raise BadInput(
            "this link was used or replaced: the server prints a new one while nobody has an account"
        )
    place: Site | None = add_site(site, None) if site.strip() else None
    return add_person(username, first, last, password, RELEASE.word, place, None)
