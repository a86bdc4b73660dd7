"""People, their roles and sites, and keys of programs; every change is in the audit log."""

from __future__ import annotations

import secrets
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import Membership, ProgramKey, Site
from greyanchor.accounts.roles import RELEASE, USE, Role, may, needs, role_of, set_role
from greyanchor.core.errors import BadInput


def site_of(user: Any) -> Site | None:
    """The site a person works at; None where none is set."""
    found = Membership.objects.filter(user=user).select_related("site").first() if user.pk else None
    return found.site if found else None


@needs(RELEASE)
@transaction.atomic
def set_person(person: User, role: str, site: Site | None, user: User | None) -> None:
    """Give a person a role and a site; the last lead stays one."""
    try:
        wanted = Role[role.upper()]
    except KeyError:
        raise BadInput(f"there is no role called {role}") from None
    if role_of(person) == RELEASE and wanted != RELEASE:
        others = [
            p for p in User.objects.filter(is_active=True).exclude(pk=person.pk) if role_of(p) == RELEASE
        ]
        if not others:
            raise BadInput(f"{named(person)} is the last lead; make somebody else one first")
    note(person, f"Role of {named(person)}", role_of(person).word, wanted.word, user)
    note(person, f"Site of {named(person)}", site_of(person), site, user)
    set_role(person, wanted)
    Membership.objects.update_or_create(user=person, defaults={"site": site})


@needs(RELEASE)
@transaction.atomic
def add_person(
    username: str, first: str, last: str, password: str, role: str, site: Site | None, user: User | None
) -> User:
    """Make an account; `BadInput` where the name is taken or the password is weak."""
    from django.contrib.auth.password_validation import validate_password
    from django.core.exceptions import ValidationError

    username = username.strip()
    if not username or User.objects.filter(username__iexact=username).exists():
        raise BadInput(
            f"there is an account called {username} already" if username else "an account has a name"
        )
    made = User(username=username[:150], first_name=first.strip()[:150], last_name=last.strip()[:150])
    try:
        validate_password(password, made)
        made.full_clean(exclude=["password"])
    except ValidationError as error:
        raise BadInput(" ".join(error.messages).rstrip(".")) from None
    made.set_password(password)
    made.save()
    note(made, "Account", "", made.username, user)
    set_person(made, role, site, user)
    return made


@needs(RELEASE)
@transaction.atomic
def add_site(name: str, user: User | None) -> Site:
    """Make a print room."""
    name = name.strip()
    if not name or len(name) > 80 or Site.objects.filter(name__iexact=name).exists():
        raise BadInput(f"there is a site called {name} already" if name else "a site has a name")
    made = Site.objects.create(name=name)
    note(made, "Site", "", made.name, user)
    return made


@needs(USE)
@transaction.atomic
def make_key(user: Any, name: str) -> str:
    """Make a key that a program signs in with in a person's name; it is shown once."""
    if not name.strip():
        raise BadInput("say which program the key is for")
    key = f"ga_{secrets.token_urlsafe(32)}"
    ProgramKey.objects.create(user=user, name=name.strip()[:80], digest=ProgramKey.digest_of(key))
    note(user, f"Key of {named(user)}", "", name.strip()[:80], user)
    return key


@needs(USE)
@transaction.atomic
def end_key(pk: int, user: Any) -> None:
    """End a key: one's own, or anybody's for a lead."""
    found = ProgramKey.objects.filter(pk=pk).first()
    if found is None or (found.user_id != user.pk and not may(user, RELEASE)):
        raise BadInput("there is no such key of yours")
    note(found.user, f"Key of {named(found.user)}", found.name, "", user)
    found.delete()


def named(user: Any) -> str:
    """A person's name; "somebody" where nobody is known."""
    return (user.get_full_name() or user.get_username()) if user else "somebody"
