"""What the worker does for a family: how far apart members are, what they have in common, their profiles."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import numpy as np
from django.db import transaction

from greyanchor.background import queue, work
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.profiling import common_ground as ground_of
from greyanchor.core.profiling.build import ProfileResult, build_from_model
from greyanchor.core.profiling.common_ground import CommonGround, Member
from greyanchor.core.profiling.rendering import Rendering
from greyanchor.core.verification.generic_aims import aim_data
from greyanchor.families.models import Family, FamilyMember, FamilyWork
from greyanchor.profiles.aims import keep_aim
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import model_of, parsed, readings_of, separation_options
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import separation_from, settings_from

#: picture colours by which members are held beside one another, and steps of the neutral scale
_COLOURS, _GREYS = 500, 21


@queue.handles(FamilyWork)
def find(pk: int) -> None:
    """Everything about a family, computed; nothing is used before a person says so."""
    task = FamilyWork.objects.select_related("family", "started_by").get(pk=pk)
    report = work.progress_of(FamilyWork, pk)
    members = list(task.family.members.select_related("mode__printer", "mode__media", "own"))
    for m in members:
        if m.own is None:
            raise BadInput(f"{m.mode.name} has no profile any more")
    report(0.05, "reading the members' models")
    known = [_member(m) for m in members]
    ground = ground_of.common_ground(known, task.family.tinted)
    built = []
    for i, (m, k) in enumerate(zip(members, known)):
        report(0.1 + 0.7 * i / len(members), f"profile of {m.mode.name}")
        own = _own(m)
        options = {**separation_options(own), **own.settings, "title": _title(task.family, m)}
        settings = settings_from(options, m.mode.name)
        built.append(build_from_model(k.model, readings_of(own), settings, common=ground.rendering_of(i)))
    report(0.85, "holding them beside one another")
    found = _figures(members, known, ground, built)
    _keep(task, members, ground, built, found)


def _own(member: FamilyMember) -> Profile:
    assert member.own is not None
    return member.own


def _title(family: Family, member: FamilyMember) -> str:
    return f"{member.mode.name}, in {family.name}"[:160]


def _member(member: FamilyMember) -> Member:
    own = _own(member)
    return Member(member.mode.name, model_of(own), separation_from(separation_options(own)))


def _figures(
    members: list[FamilyMember], known: list[Member], ground: CommonGround, built: list[ProfileResult]
) -> dict[str, Any]:
    rgb = ground_of.picture_colours(_COLOURS)
    before = [ground_of.printed(k.model, parsed(_own(m)), rgb) for m, k in zip(members, known)]
    after = [ground_of.printed(k.model, icc.loads(b.data), rgb) for k, b in zip(known, built)]
    kept, tints, costs = ground.kept(), ground.tints(), _costs(known, ground)
    return {
        "white": _rounded(ground.white),
        "darkest": round(ground.darkest, 1),
        "volume": round(ground.volume),
        "members": {
            str(m.mode_id): {
                "kept": round(100.0 * kept[i], 1), "tint": round(tints[i], 2),
                "paper": _rounded(ground.papers[i]), "volume": round(ground.volumes[i]),
                "costs": None if costs[i] is None else round(100.0 * costs[i], 1),
                "solids": _solids(known[i]), "greys": _greys(before[i]), "greys_after": _greys(after[i]),
            }
            for i, m in enumerate(members)
        },
        "pairs": [
            {
                "one": members[i].mode_id, "other": members[j].mode_id,
                "before": ground_of.apart(before[i], before[j]).as_dict(),
                "after": ground_of.apart(after[i], after[j]).as_dict(),
                "map": _map(before[i], before[j], after[i], after[j]),
            }
            for i, j in combinations(range(len(members)), 2)
        ],
    }  # fmt: skip


def _rounded(lab: Array) -> list[float]:
    return [round(float(v), 2) for v in lab]


def _solids(member: Member) -> dict[str, list[float]]:
    """Lab of each ink alone, in full."""
    channels = member.model.channels
    return {c: _rounded(lab) for c, lab in zip(channels, member.model.lab(np.eye(len(channels))))}


def _greys(lab: Array) -> list[list[float]]:
    """The neutral scale of a picture as it prints, black to white."""
    greys = lab[-(_COLOURS // 10) :]
    return [_rounded(v) for v in greys[np.linspace(0, len(greys) - 1, _GREYS).astype(int)]]


def _map(one: Array, other: Array, one_after: Array, other_after: Array) -> list[list[float]]:
    """Where a pair differs: L*, a*, b* of colours, and dE00 before and after."""
    before, after = delta_e_2000(one, other), delta_e_2000(one_after, other_after)
    middle = 0.5 * (one + other)
    return [[*_rounded(m), round(float(b), 2), round(float(a), 2)] for m, b, a in zip(middle, before, after)]


def _costs(known: list[Member], ground: CommonGround) -> list[float | None]:
    """What each member costs the others: the share of gamut that they would have in common without it,
    and have not; None in a pair, and where the others have nothing in common.
    """
    if len(known) < 3:
        return [None] * len(known)
    out: list[float | None] = []
    for i in range(len(known)):
        try:
            without = ground_of.common_ground([k for j, k in enumerate(known) if j != i], ground.tinted)
        except BadInput:
            out.append(None)
            continue
        out.append(max(0.0, 1.0 - ground.volume / without.volume))
    return out


@transaction.atomic
def _keep(
    task: FamilyWork,
    members: list[FamilyMember],
    ground: CommonGround,
    built: list[ProfileResult],
    found: dict[str, Any],
) -> None:
    family = Family.objects.select_for_update(of=("self",)).get(pk=task.family_id)
    if FamilyWork.objects.filter(pk=task.pk, cancel_asked=True).exists():
        raise work.Cancelled
    for m, result in zip(members, built):
        own = _own(m)
        made_from = {**own.made_from, "family": family.name}
        in_use = FamilyMember.objects.select_related("mode").get(pk=m.pk).is_in_use
        m.profile = keep_profile(
            result, _title(family, m), own.version, own.settings, made_from, task.started_by, own
        )
        m.save(update_fields=["profile"])
        if in_use:  # what it prints through stays until a person says otherwise
            found["stale"] = True
    family.found, family.aim = found, _aim(family, ground, task)
    family.version += 1
    family.save()
    work.end(FamilyWork, task.pk, FamilyWork.State.DONE, "done")


def _aim(family: Family, ground: CommonGround, task: FamilyWork) -> AimRecord | None:
    """What all members print for the generic coated condition, to hold checks to."""
    chart = aim_data()
    asked = chart.lab()
    paper = chart.values().max(axis=1) < 1e-6
    white = asked[paper].mean(axis=0)
    seen = Rendering(lab_to_xyz(white[None])[0] / 100.0, 0.0, 0.0).relative(asked)
    data = ground_of.aim_readings(ground, chart, seen)
    name = f"Family {family.name}"[:120]
    text = cgats.dumps(data).encode()
    newest = AimRecord.objects.filter(name=name).order_by("-edition").first()
    if newest is not None and bytes(newest.data) == text:
        return newest
    return keep_aim(name, text, f"{name}.txt", "what all members of the family print", task.started_by)
