"""People, their roles and sites, and keys of programs; every change is in the audit log."""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import Membership, ProgramKey, ResetLink, Site
from greyanchor.accounts.roles import RELEASE, USE, Role, may, needs, role_of, set_role
from greyanchor.core.errors import BadInput

#: how long a link holds that sets a new password
_LINK = timedelta(days=1)


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
    if wanted != RELEASE:
        _keep_a_lead(person)
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
    username = username.strip()
    if not username or User.objects.filter(username__iexact=username).exists():
        raise BadInput(
            f"there is an account called {username} already" if username else "an account has a name"
        )
    made = User(username=username[:150], first_name=first.strip()[:150], last_name=last.strip()[:150])
    _check_password(password, made)
    try:
        made.full_clean(exclude=["password"])
    except ValidationError as error:
        raise BadInput(" ".join(error.messages).rstrip(".")) from None
    made.set_password(password)
    made.save()
    note(made, "Account", "", made.username, user)
    set_person(made, role, site, user)
    return made


def _check_password(password: str, person: User) -> None:
    try:
        validate_password(password, person)
    except ValidationError as error:
        raise BadInput(" ".join(error.messages).rstrip(".")) from None


def _keep_a_lead(person: User) -> None:
    """`BadInput` where a person is the last lead of the shop."""
    if role_of(person) != RELEASE:
        return
    others = User.objects.filter(is_active=True).exclude(pk=person.pk)
    if not any(role_of(p) == RELEASE for p in others):
        raise BadInput(f"{named(person)} is the last lead; make somebody else one first")


@needs(RELEASE)
@transaction.atomic
def leave(person: User, user: User | None) -> None:
    """A person left: the account stays with what it did, but nobody signs in with it; its sessions and keys
    end at once. The last lead stays.
    """
    _keep_a_lead(person)
    ended = person.program_keys.count()
    person.program_keys.all().delete()
    ResetLink.objects.filter(user=person).delete()
    person.is_active = False
    person.save(update_fields=["is_active"])
    note(person, f"Account of {named(person)}", "active", f"left; {ended} keys ended", user)


@needs(RELEASE)
@transaction.atomic
def come_back(person: User, user: User | None) -> None:
    """A person who had left may sign in again, in the role of then."""
    person.is_active = True
    person.save(update_fields=["is_active"])
    note(person, f"Account of {named(person)}", "left", "active", user)


@needs(RELEASE)
@transaction.atomic
def reset_link(person: User, user: User | None) -> str:
    """The token of a link by which a person sets a new password, once and within a day; shown once."""
    if not person.is_active:
        raise BadInput(f"{named(person)} has left; let them come back first")
    token = secrets.token_urlsafe(24)
    ResetLink.objects.filter(user=person).delete()
    ResetLink.objects.create(user=person, digest=ProgramKey.digest_of(token))
    note(person, f"Password of {named(person)}", "", "a link to set a new one", user)
    return token


@transaction.atomic
def link_by_mail(person: User) -> str:
    """The same link, for a person who asked for it by mail; the old password holds until it is used."""
    token = secrets.token_urlsafe(24)
    ResetLink.objects.filter(user=person).delete()
    ResetLink.objects.create(user=person, digest=ProgramKey.digest_of(token))
    note(person, f"Password of {named(person)}", "", "a link to set a new one, by mail", None)
    return token


@needs(USE)
@transaction.atomic
def set_mail(user: User, address: str) -> None:
    """One's own mail address; `BadInput` where it is none."""
    address = address.strip()
    try:
        if address:
            validate_email(address)
    except ValidationError:
        raise BadInput(f"{address!r} is no mail address") from None
    note(user, f"Mail address of {named(user)}", user.email, address, user)
    user.email = address[:254]
    user.save(update_fields=["email"])


def whose_link(token: str) -> User | None:
    """Whose password a link sets; None where it was used, replaced, or is older than a day."""
    found = ResetLink.objects.filter(digest=ProgramKey.digest_of(token), made_at__gte=timezone.now() - _LINK)
    link = found.select_related("user").first()
    return link.user if link is not None and link.user.is_active else None


@transaction.atomic
def set_by_link(token: str, password: str) -> User:
    """Set a new password and end the link; every session of the person ends. `BadInput` for a weak password,
    and then the link stays.
    """
    person = whose_link(token)
    if person is None:
        raise BadInput("this link was used or is too old: ask a lead for another")
    _check_password(password, person)
    person.set_password(password)
    person.save(update_fields=["password"])
    ResetLink.objects.filter(user=person).delete()
    note(person, f"Password of {named(person)}", "", "set by a link", person)
    return person


@needs(USE)
@transaction.atomic
def change_password(user: User, old: str, new: str) -> None:
    """Another password of one's own; other sessions end. `BadInput` where the old one does not fit."""
    if not user.check_password(old):
        raise BadInput("the password of now does not fit")
    _check_password(new, user)
    user.set_password(new)
    user.save(update_fields=["password"])
    note(user, f"Password of {named(user)}", "", "changed", user)


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
def make_key(user: Any, name: str, days: int | None = None, may_write: bool = True) -> str:
    """Make a key that a program signs in with in a person's name; it is shown once. It holds for some days,
    or until it is ended, and may read alone.
    """
    if not name.strip():
        raise BadInput("say which program the key is for")
    if days is not None and not 1 <= days <= 3650:
        raise BadInput("a key holds for 1 to 3650 days")
    key = f"ga_{secrets.token_urlsafe(32)}"
    ProgramKey.objects.create(
        user=user,
        name=name.strip()[:80],
        digest=ProgramKey.digest_of(key),
        expires_at=timezone.now() + timedelta(days=days) if days else None,
        may_write=may_write,
    )
    what = f"{name.strip()[:80]}, {'reads and writes' if may_write else 'reads alone'}"
    note(user, f"Key of {named(user)}", "", what, user)
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
