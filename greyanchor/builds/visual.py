"""What the eye decides: marks of faults, and matched pairs in place of readings."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.charts import compute_stage, curves_of, decided
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import kinds, results
from greyanchor.core.calibration.byeye import RAMP_FAULTS, TOTAL_FAULTS, MatchPair, match_pairs
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.northlight import aim_lab
from greyanchor.devices.standin import StandInPrinter
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.pipelines import to_raw

#: inputs of the picture of a ramp, and sums of the picture of an overprint, percent
RAMP_STEPS = tuple(range(40, 101, 5))
SUM_STEPS = tuple(range(120, 401, 20))
REPEATS = 2


def faults_of(kind: str) -> tuple[str, ...]:
    """The faults that a stage asks the eye for."""
    return RAMP_FAULTS if kind == kinds.INK_LIMITS else TOTAL_FAULTS


def subjects(build: Build, kind: str) -> list[str]:
    """What is looked at: channels for ink limits, overprints for the total."""
    if kind == kinds.INK_LIMITS:
        return list(build.mode.ink_set.raw_channels)
    return ["all", "C+M+Y", "C+M", "C+Y", "M+Y"]


def steps_of(kind: str, subject: str) -> list[int]:
    """Steps of the picture, percent."""
    if kind == kinds.INK_LIMITS:
        return list(RAMP_STEPS)
    most = 400 if subject == "all" else 100 * len(subject.split("+"))
    return [s for s in SUM_STEPS if s <= most]


def picture(build: Build, kind: str, subject: str) -> bytes:
    """PNG of the stand-in's print of a ramp or of rising sums, for the loupe."""
    if subject not in subjects(build, kind):
        raise BadInput(f"there is no picture of {subject}")
    channels = list(build.mode.ink_set.raw_channels)
    steps = np.array(steps_of(kind, subject)) / 100.0
    if kind == kinds.INK_LIMITS:
        raw = np.zeros((len(steps), len(channels)))
        raw[:, channels.index(subject)] = steps
    else:
        decision = decided(build, kinds.INK_LIMITS)
        raw = to_raw(decision.get("splits", []))(_overprint(build, subject, steps))
    return StandInPrinter.picture(build.print_environment, raw, 7)


def _overprint(build: Build, subject: str, sums: Array) -> Array:
    names = list("CMYK") if subject == "all" else subject.split("+")
    device = np.zeros((len(sums), 4))
    for name in names:
        device[:, "CMYK".index(name)] = np.minimum(sums / len(names), 1.0)
    return curves_of(build).apply(device)


@needs(MAKE)
@transaction.atomic
def mark(stage: Stage, told: dict[str, dict[str, float | None]]) -> None:
    """Keep the last good step of each fault, percent, by subject; None for a fault that was not seen."""
    if stage.kind not in (kinds.INK_LIMITS, kinds.TOTAL_INK) or stage.state != Stage.State.OPEN:
        raise BadInput("faults are marked while ink limits or total ink are open")
    allowed, known = set(faults_of(stage.kind)), set(subjects(stage.build, stage.kind))
    for subject, faults in told.items():
        if subject not in known or not set(faults) <= allowed:
            raise BadInput(f"{subject} cannot be marked like that")
        for fault, step in faults.items():
            if step is not None and step not in steps_of(stage.kind, subject):
                raise BadInput(f"{fault} of {subject}: {step:g} % is no step of the picture")
    stage.options = {**stage.options, "marks": told}
    stage.save(update_fields=["options"])
    _compute(stage)


def _compute(stage: Stage) -> None:
    job = stage.sheet_print
    if job is not None and job.passes.filter(state=ReadingPass.State.DONE).exists():
        compute_stage(stage)
        return
    if not stage.build.mode.media.unreadable:
        return  # the eye alone does not decide where an instrument can
    marks = stage.options["marks"]
    if stage.kind == kinds.INK_LIMITS:
        stage.result = results.ink_limits_by_eye(stage.build.mode.ink_set.channels, marks)
    else:
        stage.result = results.total_ink_by_eye(marks)
    stage.made_under = stage.build.environment
    stage.save()


# --- linearization ---------------------------------------------------------------------------


def pairs(build: Build) -> dict[str, list[MatchPair]]:
    """Pairs to match for every channel, from the usual colours of its inks."""
    limits = decided(build, kinds.INK_LIMITS)["limits"]
    paper = lab_to_xyz(aim_lab(np.zeros((1, 4)))[0])
    solids = lab_to_xyz(aim_lab(np.eye(4)))
    return {c: match_pairs(c, limits[c] / 100.0, paper, solids[i]) for i, c in enumerate("CMYK")}


def looks(build: Build, channel: str) -> tuple[Array, Array, list[Array]]:
    """Lab of the paper, of the ink at its limit, and of the steps of every pair, as the stand-in's print shows them."""
    mine = pairs(build)[channel]
    limit = decided(build, kinds.INK_LIMITS)["limits"][channel] / 100.0
    inputs = [0.0, limit, *(s for p in mine for s in p.steps)]
    raw = np.zeros((len(inputs), 4))
    raw[:, "CMYK".index(channel)] = inputs
    seen = StandInPrinter.look(
        build.print_environment, to_raw(decided(build, kinds.INK_LIMITS).get("splits", []))(raw)
    )
    out, at = [], 2
    for pair in mine:
        out.append(seen[at : at + len(pair.steps)])
        at += len(pair.steps)
    return seen[0], seen[1], out


@needs(MAKE)
@transaction.atomic
def match(stage: Stage, told: dict[str, dict[str, list[float]]]) -> None:
    """Keep matched steps (raw inputs, percent) by channel and tone; curves are computed when all channels have enough."""
    if stage.kind != kinds.LINEARIZATION or stage.state != Stage.State.OPEN:
        raise BadInput("pairs are matched while linearization is open")
    known = pairs(stage.build)
    matches = {**stage.options.get("matches", {}), **told}
    for channel, tones in told.items():
        steps = {f"{p.tone:g}": {round(100 * s, 2) for s in p.steps} for p in known.get(channel, [])}
        for tone, chosen in tones.items():
            if tone not in steps or not set(chosen) <= steps[tone]:
                raise BadInput(f"{channel}: a match at tone {tone} is no step of its pair")
    stage.options = {**stage.options, "aim": "eye", "matches": matches}
    if set(matches) == set("CMYK"):
        limits = decided(stage.build, kinds.INK_LIMITS)["limits"]
        stage.result = results.linearization_by_eye({c: limits[c] for c in "CMYK"}, matches, _widths(known))
        stage.made_under = stage.build.environment
    stage.save()


def _widths(known: dict[str, list[MatchPair]]) -> dict[str, dict[str, float]]:
    return {
        c: {f"{p.tone:g}": 100.0 * float(np.diff(p.steps).mean()) for p in mine} for c, mine in known.items()
    }


def matched(stage: Stage, channel: str) -> dict[str, Any]:
    """What was matched for a channel so far."""
    return dict(stage.options.get("matches", {}).get(channel, {}))
