"""Who may do what: a role for each person, and services that hold to it.

Operators see and use, technicians make as well, leads release and retire as well. Every service that
changes something says what it needs with `needs`; the person is the one who sent the request, or the
`user` a service was called with. Work without a person (the worker, a command) is the shop's own.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from enum import IntEnum
from functools import wraps
from typing import Any, ParamSpec, TypeVar

from django.contrib.auth.models import AnonymousUser, Group
from django.core.exceptions import PermissionDenied

P, R = ParamSpec("P"), TypeVar("R")


class Role(IntEnum):
    """Each role may do all that those before it may."""

    OPERATOR = 0
    TECHNICIAN = 1
    LEAD = 2

    @property
    def word(self) -> str:
        return self.name.lower()


USE, MAKE, RELEASE = Role.OPERATOR, Role.TECHNICIAN, Role.LEAD
_MAY = {
    USE: "see and use what is there",
    MAKE: "make and change things",
    RELEASE: "release, retire and set rules",
}
_acting: ContextVar[Any] = ContextVar("acting", default=None)


class NotAllowed(PermissionDenied):
    """The person's role does not reach that far."""

    def __init__(self, person: Any, needed: Role) -> None:
        self.needed = needed
        super().__init__(
            f"{person.get_full_name() or person.get_username()} is signed in as {role_of(person).word}. "
            f"It takes a {needed.word} to do this: those may {_MAY[needed]}."
        )


def role_of(person: Any) -> Role:
    """The role of an account: its group, lead for a superuser, else operator."""
    found = getattr(person, "_role", None)
    if found is None:
        if getattr(person, "is_superuser", False):
            found = Role.LEAD
        else:
            names = {g.name for g in person.groups.all()} if person.pk else set()
            found = max((r for r in Role if r.word in names), default=Role.OPERATOR)
        person._role = found
    return found


def set_role(person: Any, role: Role) -> None:
    """Give an account a role in place of the one it has."""
    person.groups.remove(*Group.objects.filter(name__in=[r.word for r in Role]))
    person.groups.add(Group.objects.get_or_create(name=role.word)[0])
    person._role = role


def may(person: Any, needed: Role) -> bool:
    """Whether a person's role reaches as far as `needed`."""
    return person is None or role_of(person) >= needed


@contextmanager
def acting(person: Any) -> Iterator[None]:
    """Everything inside is done by `person`."""
    token = _acting.set(None if person is None or isinstance(person, AnonymousUser) else person)
    try:
        yield
    finally:
        _acting.reset(token)


def act_as(person: Any) -> None:
    """From here to the end of the request, everything is done by `person`."""
    _acting.set(person)


def needs(role: Role) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Mark a service as needing a role; raises `NotAllowed`, before anything is done, for lesser ones."""

    def mark(service: Callable[P, R]) -> Callable[P, R]:
        signature = inspect.signature(service)

        @wraps(service)
        def guarded(*args: P.args, **kwargs: P.kwargs) -> R:
            person = _acting.get()
            if person is None and "user" in signature.parameters:
                person = signature.bind_partial(*args, **kwargs).arguments.get("user")
            if not may(person, role):
                raise NotAllowed(person, role)
            return service(*args, **kwargs)

        return guarded

    return mark


def takes(role: Role) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Mark a view whose POST needs a role, so that a person hears of it before a form is looked at.

    The services behind it hold to the role anyway.
    """

    def mark(view: Callable[P, R]) -> Callable[P, R]:
        @wraps(view)
        def guarded(*args: P.args, **kwargs: P.kwargs) -> R:
            request: Any = args[0]
            if request.method == "POST" and not may(request.user, role):
                raise NotAllowed(request.user, role)
            return view(*args, **kwargs)

        return guarded

    return mark
