"""A second factor: codes of an authenticator that change every half minute (RFC 6238), and spare ones."""

from __future__ import annotations

import secrets
import time
from datetime import timedelta
from typing import Any

import pyotp
import segno
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import F
from django.utils import timezone

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import AccessRules, ProgramKey, SecondFactor
from greyanchor.accounts.people import named
from greyanchor.accounts.roles import RELEASE, USE, needs, role_of
from greyanchor.core.errors import BadInput

_ISSUER, _SPARE, _SECONDS = "Grey Anchor", 8, 30
#: wrong codes in a row, and how long none is taken after them
_MOST_WRONG, _PAUSE = 6, timedelta(minutes=15)


def is_on(user: Any) -> bool:
    """Whether a person signs in with a second factor."""
    return SecondFactor.objects.filter(user=user, confirmed_at__isnull=False).exists()


def is_required(user: Any) -> bool:
    """Whether the shop's rules ask it of a person."""
    whom = AccessRules.current().second_factor
    if whom == AccessRules.Whom.LEADS:
        return role_of(user) >= RELEASE
    return whom == AccessRules.Whom.EVERYBODY


@transaction.atomic
def begin(user: Any) -> SecondFactor:
    """A secret for a person who sets a second factor up; it counts once a code of it was typed."""
    found, _ = SecondFactor.objects.get_or_create(user=user, defaults={"secret": pyotp.random_base32()})
    return found


def picture(factor: SecondFactor) -> str:
    """The secret as a square code that authenticators read, as SVG."""
    made = pyotp.TOTP(factor.secret, name=factor.user.get_username(), issuer=_ISSUER)
    return str(segno.make(made.provisioning_uri(), error="m").svg_inline(scale=4, border=2))


@needs(USE)
@transaction.atomic
def confirm(user: Any, code: str) -> list[str]:
    """Switch a second factor on by a first code of it; spare codes, which are shown once."""
    factor = SecondFactor.objects.select_for_update().filter(user=user).first()
    if factor is None or factor.confirmed_at is not None:
        raise BadInput("begin with a new secret")
    step = _step_of(factor.secret, code)
    if step is None:
        raise BadInput("the code does not fit; look whether the clock of the device is right")
    codes = [f"{secrets.randbelow(10**8):08d}" for _ in range(_SPARE)]
    factor.confirmed_at, factor.step = timezone.now(), step
    factor.spare = [ProgramKey.digest_of(c) for c in codes]
    factor.save()
    note(user, f"Second factor of {named(user)}", "off", "on", user)
    return codes


@transaction.atomic
def take(user: Any, code: str) -> bool:
    """Whether a code fits now; each is taken once. `BadInput` in the pause after too many wrong ones."""
    factor = SecondFactor.objects.select_for_update().get(user=user, confirmed_at__isnull=False)
    paused = factor.failed_at is not None and factor.failed_at > timezone.now() - _PAUSE
    if factor.failures >= _MOST_WRONG and paused:
        raise BadInput("too many wrong codes; the next one is taken in a quarter of an hour")
    step, spare = _step_of(factor.secret, code), ProgramKey.digest_of(code.strip())
    if step is not None and step > factor.step:
        factor.step = step
    elif spare in factor.spare:
        factor.spare = [s for s in factor.spare if s != spare]
        note(user, f"Second factor of {named(user)}", "", f"a spare code; {len(factor.spare)} left", user)
    else:
        failures = F("failures") + 1 if paused or factor.failures < _MOST_WRONG else 1
        SecondFactor.objects.filter(pk=factor.pk).update(failures=failures, failed_at=timezone.now())
        return False
    factor.failures = 0
    factor.save()
    return True


@needs(USE)
@transaction.atomic
def switch_off(user: Any, password: str) -> None:
    """End one's own second factor. `BadInput` where the password does not fit, or the rules require one."""
    if not user.check_password(password):
        raise BadInput("the password does not fit")
    if is_required(user):
        raise BadInput("the rules of the shop require a second factor of you")
    if SecondFactor.objects.filter(user=user).delete()[0]:
        note(user, f"Second factor of {named(user)}", "on", "off", user)


@needs(RELEASE)
@transaction.atomic
def end(person: User, user: Any) -> None:
    """A lead ends the second factor of a person whose device is lost; the next sign-in sets up another."""
    if SecondFactor.objects.filter(user=person).delete()[0]:
        note(person, f"Second factor of {named(person)}", "on", "ended by a lead", user)


def _step_of(secret: str, code: str) -> int | None:
    """The half minute whose code this is, of the one now and those beside it; None for any other."""
    now, made = int(time.time()) // _SECONDS, pyotp.TOTP(secret)
    typed = "".join(code.split())
    return next(
        (s for s in (now, now - 1, now + 1) if secrets.compare_digest(made.at(s * _SECONDS), typed)), None
    )
