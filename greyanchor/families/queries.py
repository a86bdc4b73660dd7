"""What pages ask of families."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np
from django.utils import timezone

from greyanchor.builds.models import Restore
from greyanchor.changes.queries import since_last
from greyanchor.checks.models import Check
from greyanchor.core.calibration.restore import RESTORED
from greyanchor.core.characterization.model import FitReport
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.drawing.families import held_true, neutral_scales, pair_map
from greyanchor.drawing.gamuts import slice_picture
from greyanchor.families.models import Family, FamilyMember
from greyanchor.library.machines.connections import queue_of
from greyanchor.library.models import PrintMode
from greyanchor.profiles.queries import gamut_of_profile

#: a pair within these (dE00, mean and 95th) prints alike
ALIKE_MEAN, ALIKE_HIGH = 0.8, 2.0
_SLICE = 55.0


@dataclass(frozen=True)
class MemberView:
    """A member with its figures, and the check that proved it last."""

    member: FamilyMember
    found: dict[str, Any]
    check: Check | None

    @property
    def mode(self) -> PrintMode:
        return self.member.mode


@dataclass(frozen=True)
class PairView:
    """Two members: predicted before and after, and proven by their checks, where both have one."""

    one: FamilyMember
    other: FamilyMember
    before: dict[str, float]
    after: dict[str, float]
    proven: FitReport | None
    maps: tuple[str, str]

    @property
    def alike(self) -> bool:
        """Whether they print alike once they use the family's profiles, by prediction."""
        return self.after["mean"] <= ALIKE_MEAN and self.after["p95"] <= ALIKE_HIGH


def page_of(family: Family) -> dict[str, Any]:
    """Everything about a family; nothing of it before it was computed."""
    members = list(
        family.members.select_related("mode__printer__site", "mode__media", "own", "profile").defer(
            "own__data", "own__fitted", "profile__data", "profile__fitted"
        )
    )
    found = family.found
    views = [MemberView(m, m.found(found), _proof(family, m)) for m in members]
    known = {m.mode_id: m for m in members}
    proofs = {v.member.mode_id: v.check for v in views}
    pairs = [
        PairView(
            known[p["one"]], known[p["other"]], p["before"], p["after"],
            _between(proofs[p["one"]], proofs[p["other"]]),
            (pair_map(p["map"], False), pair_map(p["map"], True)),
        )
        for p in found.get("pairs", ())
        if p["one"] in known and p["other"] in known
    ]  # fmt: skip
    return {
        "members": views,
        "pairs": pairs,
        "fresh": {str(m.mode_id) for m in members} == set(found.get("members", {})),
        "in_use": sum(m.is_in_use for m in members),
        "outdated": [m.mode.name for m in members if not m.is_in_use and m.own_id != m.mode.profile_id],
        "greys": _scales(views, "greys") if pairs else [],
        "greys_after": _scales(views, "greys_after") if pairs else [],
        "shells": _shells(views),
        "solids": _solids(views),
        "held": _held(members),
        "changes": [c for v in views if (c := since_last(v.mode)) is not None],
        "work": family.works.first(),
        "limits": (ALIKE_MEAN, ALIKE_HIGH),
    }


def _scales(views: list[MemberView], which: str) -> list[str]:
    greys = {v.mode.name: v.found[which] for v in views if which in v.found}
    return [neutral_scales(greys, i) for i in (1, 2)] if greys else []


def _held(members: list[FamilyMember]) -> str:
    """How true the members were found whenever their short charts were read; empty before the first."""
    drifts: dict[str, list[tuple[date, float]]] = {m.mode.name: [] for m in members}
    found = Restore.objects.filter(mode__in=[m.mode_id for m in members]).exclude(drift=None)
    for restore in found.select_related("mode").order_by("started_at"):
        day = timezone.localdate(restore.started_at)
        drifts[restore.mode.name].append((day, float(restore.drift["mean"])))
    return held_true(drifts, RESTORED) if any(drifts.values()) else ""


def _solids(views: list[MemberView]) -> list[tuple[str, list[list[float] | None], float | None]]:
    """Each ink in full: its name, Lab on each member, and the largest dE00 between two of them."""
    known = [v.found.get("solids", {}) for v in views]
    names = list(dict.fromkeys(n for found in known for n in found))
    out = []
    for name in names:
        labs = [found.get(name) for found in known]
        there = [np.array([lab]) for lab in labs if lab]
        apart = [float(delta_e_2000(a, b)[0]) for i, a in enumerate(there) for b in there[i + 1 :]]
        out.append((name, labs, max(apart) if apart else None))
    return out


def _shells(views: list[MemberView]) -> str:
    """The members' gamuts over one another, cut at a lightness."""
    own = [gamut_of_profile(v.member.own) for v in views if v.member.own and v.member.own.boundary]
    return slice_picture(own[0], None, _SLICE, own[1:]) if len(own) > 1 else ""


def _proof(family: Family, member: FamilyMember) -> Check | None:
    """The last check of a member against what the family prints, since it prints through its profile."""
    if family.aim_id is None:
        return None
    return (
        Check.objects.filter(mode=member.mode_id, aim=family.aim_id, withdrawn="")
        .order_by("-made_at")
        .first()
    )


def _between(one: Check | None, other: Check | None) -> FitReport | None:
    """dE00 between what two members printed for the same patches."""
    if one is None or other is None:
        return None
    a, b = (cgats.loads(c.readings, f"check {c.pk}") for c in (one, other))
    first, second = _by_device(a), _by_device(b)
    shared = [k for k in first if k in second]
    if len(shared) < 3:
        return None
    labs = [np.array([found[k] for k in shared]) for found in (first, second)]
    return FitReport.of(delta_e_2000(*labs))


def _by_device(readings: ReadingSet) -> dict[tuple[float, ...], Any]:
    """Lab by device value, the mean of repeats."""
    seen: dict[tuple[float, ...], list[Any]] = {}
    for device, lab in zip(np.round(readings.values(), 3).tolist(), readings.lab()):
        seen.setdefault(tuple(device), []).append(lab)
    return {k: np.mean(v, axis=0) for k, v in seen.items()}


def candidates(family: Family | None = None) -> list[PrintMode]:
    """Modes that may be members, with what a list shows."""
    found = PrintMode.objects.exclude(profile=None).exclude(state=PrintMode.State.RETIRED)
    if family is not None:
        found = found.exclude(memberships__family=family)
    return [m for m in found.select_related("printer__site", "media", "ink_set") if not m.ink_set.is_film]


@dataclass(frozen=True)
class Sister:
    """Another member of a mode's family, and how far its prints are expected from the mode's."""

    mode: PrintMode
    family: Family
    mean: float
    high: float


def sisters(mode: PrintMode) -> list[Sister]:
    """Members of the families of a mode that print alike now, the nearest first: where a job can go as
    well.
    """
    out = []
    for mine in FamilyMember.objects.filter(mode=mode).select_related("family", "mode"):
        others = {m.mode_id: m for m in mine.family.members.select_related("mode__printer")}
        for p in mine.family.found.get("pairs", ()):
            if mode.pk not in (p["one"], p["other"]):
                continue
            other = others.get(p["other"] if p["one"] == mode.pk else p["one"])
            if other is not None:
                alike = mine.is_in_use and other.is_in_use
                figures = p["after" if alike else "before"]
                out.append(Sister(other.mode, mine.family, figures["mean"], figures["p95"]))
    return sorted(out, key=lambda s: s.mean)


@dataclass(frozen=True)
class Free:
    """A sister with how its machine is: ``idle``, ``printing``, ``stopped``, or empty where it does not
    say.
    """

    sister: Sister
    state: str


def free(mode: PrintMode) -> list[Free]:
    """Sisters of a mode that are released, those of idle machines first, then the nearest in colour."""
    found = []
    for sister in sisters(mode):
        if sister.mode.state != PrintMode.State.RELEASED:
            continue
        try:
            queue = queue_of(sister.mode.printer)
            state = queue.machine().state if queue else ""
        except BadInput:
            state = ""  # it does not answer
        found.append(Free(sister, state))
    return sorted(found, key=lambda f: (f.state != "idle", f.sister.mean))
