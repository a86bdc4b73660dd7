"""What changes families."""

from __future__ import annotations

from collections.abc import Sequence

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts import audit_log
from greyanchor.accounts.roles import MAKE, RELEASE, needs
from greyanchor.background import queue
from greyanchor.core.errors import BadInput
from greyanchor.families.models import Family, FamilyMember, FamilyWork
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import Outdated, set_history_author
from greyanchor.library.records.editions import keep_edition


def _able(mode: PrintMode) -> None:
    if mode.profile is None:
        raise BadInput(f"{mode.name} has no profile, so that it is not known what it prints")
    if mode.ink_set.is_film:
        raise BadInput(f"{mode.name} prints films")


@needs(MAKE)
@transaction.atomic
def make_family(name: str, modes: Sequence[PrintMode], tinted: bool, user: User) -> Family:
    """A family of two modes or more; how far apart they are is computed at once, in the background."""
    if not name.strip():
        raise BadInput("a family has a name")
    if Family.objects.filter(name=name.strip()).exists():
        raise BadInput(f"there is a family called {name.strip()} already")
    if len({m.pk for m in modes}) < 2:
        raise BadInput("choose two modes or more")
    for mode in modes:
        _able(mode)
    made = Family.objects.create(name=name.strip()[:120], tinted=tinted, made_by=user)
    FamilyMember.objects.bulk_create(FamilyMember(family=made, mode=m, own=m.profile) for m in modes)
    compute(made, user)
    return made


def _locked(family: Family, based_on: int) -> Family:
    found = Family.objects.select_for_update(of=("self",)).get(pk=family.pk)
    if found.version != based_on:
        raise Outdated(f"somebody changed {found.name} since; look at it again, then decide")
    found.version += 1
    found.save(update_fields=["version"])
    return found


@needs(MAKE)
@transaction.atomic
def join(family: Family, mode: PrintMode, based_on: int, user: User) -> FamilyMember:
    """Add a member; what it costs the others is computed before anything is used."""
    family = _locked(family, based_on)
    _able(mode)
    if family.members.filter(mode=mode).exists():
        raise BadInput(f"{mode.name} is in {family.name} already")
    made = FamilyMember.objects.create(family=family, mode=mode, own=mode.profile)
    compute(family, user)
    return made


@needs(MAKE)
@transaction.atomic
def leave(member: FamilyMember, based_on: int, user: User) -> None:
    """Take a member out; a mode that prints through the family's profile gets its own back."""
    family = _locked(member.family, based_on)
    if family.members.count() <= 2:
        raise BadInput(f"{family.name} would have one member; end the family instead")
    if member.is_in_use:
        _set_profile(member, own=True, user=user)
    member.delete()
    compute(family, user)


@needs(MAKE)
@transaction.atomic
def end(family: Family, based_on: int, user: User) -> None:
    """End a family; modes that print through its profiles get their own back."""
    family = _locked(family, based_on)
    for member in family.members.select_related("mode", "own"):
        if member.is_in_use:
            _set_profile(member, own=True, user=user)
    audit_log.note(family, "family", family.name, "ended", user)
    family.delete()


@needs(MAKE)
@transaction.atomic
def compute(family: Family, user: User) -> FamilyWork:
    """Find what the members have in common and make their profiles, in the background."""
    for old in family.works.filter(state__in=[FamilyWork.State.QUEUED, FamilyWork.State.RUNNING]):
        FamilyWork.objects.filter(pk=old.pk).update(cancel_asked=True)
    for member in family.members.select_related("mode__profile"):
        if not member.is_in_use and member.own_id != member.mode.profile_id:
            member.own = member.mode.profile  # it was made again since
            member.save(update_fields=["own"])
    made = FamilyWork.objects.create(family=family, started_by=user, message="waiting for the worker")
    queue.start(made)
    return made


@needs(RELEASE)
@transaction.atomic
def use_profiles(family: Family, based_on: int, user: User) -> Family:
    """Let every member print through its family profile."""
    family = _locked(family, based_on)
    members = list(family.members.select_related("mode__profile", "own", "profile"))
    for member in members:
        if member.profile is None:
            raise BadInput(f"the profile of {member.mode.name} is not made yet")
        if member.mode.profile_id not in (member.own_id, member.profile_id):
            raise BadInput(f"{member.mode.name} has another profile by now: compute the family again")
    for member in members:
        if not member.is_in_use:
            _set_profile(member, own=False, user=user)
    return family


def _set_profile(member: FamilyMember, own: bool, user: User) -> None:
    mode = PrintMode.objects.select_for_update(of=("self",)).get(pk=member.mode_id)
    mode.profile = member.own if own else member.profile
    mode.version += 1
    words = f"left the family {member.family}" if own else f"prints alike in the family {member.family}"
    set_history_author(mode, user, words).save()
    if mode.state == PrintMode.State.RELEASED:
        keep_edition(mode, [{"rule": "family", "ok": True, "text": words}], user)
    member.mode = mode
