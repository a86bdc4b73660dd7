"""What changes the state of print modes, pins, rules and people; every change says who and why."""

from __future__ import annotations

import secrets
from typing import Any

from django.contrib.auth.models import AbstractBaseUser, User
from django.db import transaction
from django.utils import timezone

from greyanchor.core.errors import BadInput
from greyanchor.library.editions import keep_edition
from greyanchor.library.keeping import Outdated, named, signed, test
from greyanchor.library.models import (
    ClassFallback,
    Edition,
    MediaClass,
    Membership,
    Pin,
    Printer,
    PrintMode,
    ProgramKey,
    ShopRules,
    Site,
)
from greyanchor.library.noting import note
from greyanchor.profiles.roles import MAKE, RELEASE, USE, Role, may, needs, role_of, set_role

State = PrintMode.State


def locked_mode(pk: int, based_on: int) -> PrintMode:
    """A mode that nobody changed since `based_on`; raises `Outdated` naming who did."""
    mode = PrintMode.objects.select_for_update(of=("self",)).select_related("printer", "media__media_class", "preset").get(pk=pk)  # fmt: skip
    if mode.version != based_on:
        last = mode.history.select_related("history_user").first()
        raise Outdated(
            f"{mode.name} was changed by {named(last.history_user if last else None)}; look at it again"
        )
    return mode


def _move(mode: PrintMode, state: str, user: AbstractBaseUser, why: str) -> PrintMode:
    mode.state = state
    mode.version += 1
    signed(mode, user, why).save()
    return mode


@needs(MAKE)
@transaction.atomic
def hand_in(pk: int, based_on: int, user: AbstractBaseUser, why: str) -> PrintMode:
    """Ask a lead to release a draft."""
    mode = locked_mode(pk, based_on)
    if mode.state != State.BUILDING:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a draft is handed in")
    if mode.profile_id is None or mode.curve_set_id is None:
        raise BadInput(f"{mode.name} has no profile or no curves yet, so there is nothing to review")
    return _move(mode, State.READY, user, f"handed in: {why}")


@needs(RELEASE)
@transaction.atomic
def send_back(pk: int, based_on: int, user: AbstractBaseUser, why: str) -> PrintMode:
    """Send a mode in review back to its maker; the reason is what they read."""
    mode = locked_mode(pk, based_on)
    if mode.state != State.READY:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a mode in review is sent back")
    if not why:
        raise BadInput("say what is to be done before it can be released")
    return _move(mode, State.BUILDING, user, f"sent back: {why}")


@needs(RELEASE)
@transaction.atomic
def release_mode(
    pk: int, user: AbstractBaseUser, note: str, evidence: list[dict[str, Any]] | None = None, exception: str = "",
    readings: list[dict[str, str]] | None = None,
) -> PrintMode:  # fmt: skip
    """Put a mode into the library for every operator, and keep it as an edition.

    `evidence` are the rules it was held to, each with "ok"; where one is not, `exception` says why it is
    released all the same, or `BadInput` names what is missing.
    """
    mode = PrintMode.objects.select_for_update(of=("self",)).select_related("printer", "media__media_class", "preset").get(pk=pk)  # fmt: skip
    if mode.profile_id is None or mode.curve_set_id is None:
        raise BadInput(f"{mode.name} has no profile or no curves yet, so it cannot be released")
    if mode.state == State.RETIRED:
        raise BadInput(f"{mode.name} is retired; bring it back first")
    most = Edition._meta.get_field("exception").max_length or 0
    if len(exception) > most:
        raise BadInput(
            f"the reason for an exception has at most {most} letters, this one has {len(exception)}"
        )
    missing = [e["text"] for e in evidence or [] if not e["ok"]]
    if missing and not exception:
        raise BadInput("missing for a release: " + "; ".join(missing) + ". Mend it, or say why it is released all the same")  # fmt: skip
    mode.state = State.RELEASED
    mode.released_at, mode.released_by, mode.note = timezone.now(), user, note
    if readings is not None:
        mode.readings = readings
    mode.version += 1
    signed(mode, user, f"released: {note}" + (f" (exception: {exception})" if missing else "")).save()
    keep_edition(mode, evidence or [], user, exception if missing else "")
    return mode


@needs(RELEASE)
@transaction.atomic
def retire_mode(pk: int, based_on: int, user: AbstractBaseUser, why: str) -> PrintMode:
    """Take a released mode out of use, or put a draft away that nobody wants; it stays readable."""
    mode = locked_mode(pk, based_on)
    if mode.state == State.RETIRED:
        raise BadInput(f"{mode.name} is retired already")
    return _move(mode, State.RETIRED, user, f"retired: {why}")


@needs(RELEASE)
@transaction.atomic
def bring_back(pk: int, based_on: int, user: AbstractBaseUser, why: str) -> PrintMode:
    """Put a retired mode in review again, or among the drafts where it was never finished; a release asks for its evidence anew."""
    mode = locked_mode(pk, based_on)
    if mode.state != State.RETIRED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a retired mode is brought back")
    whole = mode.profile_id is not None and mode.curve_set_id is not None
    return _move(mode, State.READY if whole else State.BUILDING, user, f"brought back: {why}")


@needs(RELEASE)
@transaction.atomic
def set_fallback(media_class: MediaClass, printer: Printer, mode: PrintMode | None, user: AbstractBaseUser | None = None) -> None:  # fmt: skip
    """Name the mode that a media class lends on a printer, or none."""
    lent = (
        ClassFallback.objects.filter(media_class=media_class, printer=printer).select_related("mode").first()
    )
    before = lent.mode.name if lent else ""
    if mode is None:
        ClassFallback.objects.filter(media_class=media_class, printer=printer).delete()
        note(media_class, f"Lent on {printer.name}", before, "", user)
        return
    if mode.printer_id != printer.pk:
        raise BadInput(f"{mode.name} is a mode of another printer than {printer.name}")
    if mode.state != State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a released mode is lent")
    ClassFallback.objects.update_or_create(media_class=media_class, printer=printer, defaults={"mode": mode})
    note(media_class, f"Lent on {printer.name}", before, mode.name, user)


@needs(MAKE)
def set_standin(printer: Printer, drift: dict[str, float], paper: list[float]) -> None:
    """How the stand-in behind a printer behaves from now on: ink volumes by channel (1.0 for none), and paper."""
    for channel, factor in drift.items():
        if channel not in "CMYK" or not 0.5 <= factor <= 1.5:
            raise BadInput(f"a drift of {channel} to {100 * factor:.0f} % is outside 50..150 %")
    if len(paper) != 3 or any(abs(v) > 10 for v in paper):
        raise BadInput("another paper is three differences of L*, a* and b*, each up to 10")
    with transaction.atomic():
        found = Printer.objects.select_for_update(of=("self",)).get(pk=printer.pk)
        found.standin = {**found.standin, "drift": drift, "paper": paper}
        found.save_without_historical_record(update_fields=["standin"])  # type: ignore[attr-defined]
    printer.standin = found.standin


@needs(USE)
@transaction.atomic
def set_pin(mode: PrintMode, user: AbstractBaseUser, for_site: bool, pinned: bool) -> None:
    """Keep a mode within a person's reach, or within that of the person's whole site; or no longer."""
    if for_site:
        site = site_of(user)
        if site is None:
            raise BadInput("nobody said yet which site you work at; a lead can, under People")
        if not may(user, MAKE):
            raise BadInput("pins of a whole site are set by technicians and leads")
        found = Pin.objects.filter(mode=mode, site=site)
        made = Pin(mode=mode, site=site)
    else:
        found, made = Pin.objects.filter(mode=mode, user=user), Pin(mode=mode, user=user)  # type: ignore[misc]
    if pinned and not found.exists():
        made.save()
    if not pinned:
        found.delete()


def site_of(user: Any) -> Site | None:
    """The site a person works at; None where nobody said."""
    found = Membership.objects.filter(user=user).select_related("site").first() if user.pk else None
    return found.site if found else None


def _plain(value: Any) -> str:
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else f"{value:g}"


@needs(RELEASE)
@transaction.atomic
def set_rules(based_on: int, values: dict[str, Any], user: AbstractBaseUser) -> ShopRules:
    """Change what a release asks for."""
    rules = ShopRules.objects.select_for_update().get(pk=ShopRules.current().pk)
    if rules.version != based_on:
        raise Outdated("the rules were changed by somebody else; look at them again")
    for name, value in values.items():
        label = str(ShopRules._meta.get_field(name).verbose_name).capitalize()  # type: ignore[union-attr]
        note(rules, label, _plain(getattr(rules, name)), _plain(value), user)
        setattr(rules, name, value)
    test(rules)
    rules.version += 1
    rules.save()
    return rules


@needs(RELEASE)
@transaction.atomic
def set_person(person: User, role: str, site: Site | None, user: AbstractBaseUser) -> None:
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
def add_person(username: str, first: str, last: str, password: str, role: str, site: Site | None, user: AbstractBaseUser) -> User:  # fmt: skip
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
def add_site(name: str, user: AbstractBaseUser) -> Site:
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
    """Make a key that a program signs in with in a person's name; it is told once."""
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
