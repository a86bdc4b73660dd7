"""This job on each mode: what comes out, how long it takes, how much ink; kept once it is known."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.throughput import square_metres_an_hour
from greyanchor.core.separation.coming_out import Judged, coming_out
from greyanchor.core.separation.prepare import small
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import rasters
from greyanchor.printroom.links import fingerprint, link_of
from greyanchor.printroom.models import Job
from greyanchor.printroom.preparing import size_mm
from greyanchor.printroom.recipes import spot_facts

#: pixels that a job is judged by: enough for a thousandth of its area
_JUDGED = 24_000
#: modes that a job is judged on at once
MOST_MODES = 60


@dataclass(frozen=True)
class Outcome:
    """A job on a mode.

    Attributes
    ----------
    mode
        Which.
    facts
        Shares of the area (`area_within_1`, `area_within_3`, `area_beyond_3`), `mean` and `worst` (dE00).
    minutes
        To print it all; None where the machine's speed is not known.
    ink_ml
        By plane, all copies.
    cost
        Of ink and media, in the shop's own money; None where it keeps no prices of both.
    reasons
        What speaks for it and against it, in words.
    """

    mode: PrintMode
    facts: dict[str, Any]
    minutes: float | None
    ink_ml: dict[str, float]
    cost: float | None = None
    reasons: tuple[str, ...] = ()

    @property
    def total_ml(self) -> float | None:
        """All inks together."""
        return sum(self.ink_ml.values()) if self.ink_ml else None

    @property
    def percent_within_3(self) -> float:
        """Share of the area within 3 dE00, percent."""
        return 100.0 * float(self.facts["area_within_3"])


def outcome(job: Job, mode: PrintMode) -> Outcome:
    """A job on one mode, as it was computed before where nothing changed since."""
    choices = chosen.of_job(job)
    key = _key(job, mode, choices)
    kept = job.outcomes.get(str(mode.pk))
    if kept is None or kept.get("key") != key or not kept.get("named"):
        kept = {"key": key, "named": True, **_computed(job, mode, choices, _Small(job, choices), True)}
        job.outcomes[str(mode.pk)] = kept
        Job.objects.filter(pk=job.pk).update(outcomes=job.outcomes)
    return _outcome(job, mode, kept)


def ranked(job: Job, modes: list[PrintMode]) -> list[Outcome]:
    """A job on each of some modes, the best first: what comes out, then time."""
    choices = chosen.of_job(job)
    found, changed, small_job = [], False, None
    for mode in modes[:MOST_MODES]:
        key = _key(job, mode, choices)
        kept = job.outcomes.get(str(mode.pk))
        if kept is None or kept.get("key") != key:
            try:
                small_job = small_job or _Small(job, choices)
                kept = {"key": key, **_computed(job, mode, choices, small_job, False)}
            except BadInput:
                continue  # a mode that this artwork cannot go through is no choice for it
            job.outcomes[str(mode.pk)] = kept
            changed = True
        found.append(_outcome(job, mode, kept))
    if changed:
        Job.objects.filter(pk=job.pk).update(outcomes=job.outcomes)
    return _with_reasons(sorted(found, key=_order))


def _order(found: Outcome) -> tuple[bool, float, float, float]:
    fails = found.mode.last_verdict == "fail"
    share = round(found.facts["area_within_3"], 2)
    return (fails, -share, found.minutes or 1e9, found.facts["mean"])


def _with_reasons(found: list[Outcome]) -> list[Outcome]:
    if not found:
        return []
    best = max(f.facts["area_within_3"] for f in found)
    quickest = min((f.minutes for f in found if f.minutes), default=None)
    least = min((f.total_ml for f in found if f.total_ml is not None), default=None)
    cheapest = min((f.cost for f in found if f.cost is not None), default=None)
    out = []
    for f in found:
        said = []
        if f.mode.last_verdict == "fail":
            said.append("FAILS its last check")
        if f.facts["area_within_3"] >= best - 0.005 and len(found) > 1:
            said.append("most of the area within 3")
        if quickest and f.minutes == quickest and len(found) > 1:
            said.append("quickest")
        if f.total_ml is not None and least is not None and f.total_ml <= least * 1.001 and len(found) > 1:
            said.append("least ink")
        if f.cost is not None and f.cost == cheapest and len(found) > 1:
            said.append("cheapest")
        out.append(replace(f, reasons=tuple(said)))
    return out


def _key(job: Job, mode: PrintMode, choices: dict[str, Any]) -> str:
    spots = spot_facts(job.artwork, job.page, job.mode)
    return fingerprint(job.artwork.sha256, job.page, spots, choices, mode.pk, mode.version, mode.profile_id)


class _Small:
    """A job's picture, which says what its colours are, and a small version of the part that is printed."""

    def __init__(self, job: Job, choices: dict[str, Any]) -> None:
        shape = chosen.shape_of(choices, job.page)
        finest = rasters.level(job.artwork, job.page, 0)
        coarse = rasters.level(job.artwork, job.page, max(0, rasters.levels(finest.width, finest.height) - 3))
        self.picture = shape.upright(coarse)
        pixels = small(self.picture, shape.part)
        share = max(1, int(np.ceil((pixels.shape[0] * pixels.shape[1] / _JUDGED) ** 0.5)))
        pixels = pixels[::share, ::share]
        self.judged = Judged.of(pixels)
        self.colours = pixels.reshape(-1, pixels.shape[2])[::4] / float(np.iinfo(pixels.dtype).max)


def _computed(
    job: Job, mode: PrintMode, choices: dict[str, Any], given: _Small, name_worst: bool
) -> dict[str, Any]:
    link = link_of(given.picture, job, mode, choices)
    found = coming_out(link, given.judged, name_worst).facts()
    if mode.ink_set.parts_itself:  # what its driver lays down nobody else knows
        return {"facts": found, "coverage": {}}
    raw = link.exact(given.colours)
    coverage = dict(zip(link.inks, raw.mean(axis=0).round(5).tolist()))
    for plane in link.mode.planes:
        share = 1.0 if plane.whole else float((raw.max(axis=1) > 0.0).mean())
        coverage[plane.channel] = round(plane.amount * share, 5)
    return {"facts": found, "coverage": coverage}


def _outcome(job: Job, mode: PrintMode, kept: dict[str, Any]) -> Outcome:
    choices = chosen.of_job(job)
    width, height = printed_mm(job)
    copies = int(choices["copies"])
    area = width * height / 1e6 * copies
    ml = {c: LOAD_AT_FULL * area * v for c, v in kept["coverage"].items()}
    cost = None
    if ml and mode.ink_set.price is not None and mode.media.price is not None:
        cost = sum(ml.values()) / 1000.0 * mode.ink_set.price + area * mode.media.price
    return Outcome(mode, kept["facts"], minutes_of(mode, width, height * copies), ml, cost)


def printed_mm(job: Job) -> tuple[float, float]:
    """Width and height of what is printed of a job, turned as it will lie."""
    width, height = size_mm(job)
    choices = chosen.of_job(job)
    if choices["crop"]:
        width, height = width * choices["crop"][2], height * choices["crop"][3]
    return (height, width) if int(choices["quarters"]) % 2 else (width, height)


def minutes_of(mode: PrintMode, width: float, height: float) -> float | None:
    """Minutes to print `height` mm of a strip `width` mm wide; None where the carriage is not known.

    The head crosses only what is printed, so that a narrow job takes less time a stroke than a wide one.
    """
    machine = mode.printer.machine
    if machine is None or not width or "passes" not in mode.environment:
        return None
    narrow = replace(machine, width=min(machine.width, width + 40.0))
    speed = square_metres_an_hour(
        narrow,
        mode.environment["resolution"],
        mode.environment["passes"],
        mode.environment["direction"],
        mode.handling.get("pass_pause", 0.0),
        mode.handling.get("overprints", 1.0) or 1.0,
    )
    return narrow.width * height / 1e6 / speed * 60.0


def candidates(job: Job) -> list[PrintMode]:
    """Released modes that a job could be printed through: of its mode's media class and printer."""
    released = (
        PrintMode.objects.filter(state=PrintMode.State.RELEASED, profile__isnull=False)
        .select_related("printer", "media__media_class", "ink_set")
        .order_by("name")
    )
    if job.mode is not None and job.mode.media.media_class_id:
        alike = released.filter(media__media_class=job.mode.media.media_class_id)
        if job.mode.state == PrintMode.State.RELEASED or alike.exists():
            same_printer = released.filter(printer=job.mode.printer_id)
            return list((alike | same_printer).distinct()[:MOST_MODES])
    return list(released[:MOST_MODES])
