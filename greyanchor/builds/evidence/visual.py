"""What the eye decides: marks of faults, and matched pairs in place of readings."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.evidence.charts import compute_stage
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.accepted import decided
from greyanchor.builds.stages.base import EyeSubject
from greyanchor.builds.stages.linearization import EYE, find_by_eye
from greyanchor.builds.stages.matching import pairs, raw_steps, step_widths
from greyanchor.builds.stages.names import INK_LIMITS
from greyanchor.builds.stages.registry import named, type_of
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.generic import generic_lab
from greyanchor.devices.ports import ViewPort
from greyanchor.library.machines.connections import printer_port
from greyanchor.measuring.models import ReadingPass
from greyanchor.measuring.pipelines import channels_of

#: the sheet that pictures are drawn of, so that one looks alike every time
PICTURE_NUMBER = 7


def _subject(build: Build, stage_name: str, subject: str) -> EyeSubject:
    found = next((s for s in named(stage_name).eye_subjects(build) if s.name == subject), None)
    if found is None:
        raise BadInput(f"there is no picture of {subject}")
    return found


def picture(build: Build, stage_name: str, subject: str) -> bytes:
    """PNG of the print of a ramp or of rising sums, for the loupe."""
    raw = named(stage_name).eye_raw(build, _subject(build, stage_name, subject))
    view = view_of(build)
    if view is None:
        raise BadInput(f"{build.mode.printer.name} shows no picture of its prints: look at the print")
    return view.picture(build.print_environment, raw, PICTURE_NUMBER)


def view_of(build: Build) -> ViewPort | None:
    """The printer of a build, where its prints can be looked at on screen; None where there is only the
    paper.
    """
    port = printer_port(build.mode.printer)
    return port if isinstance(port, ViewPort) else None


@needs(MAKE)
@transaction.atomic
def mark(stage: Stage, marks: dict[str, dict[str, float | None]]) -> None:
    """Keep the last good step of each fault, percent, by subject; None for a fault that was not seen."""
    known = {s.name: s for s in type_of(stage).eye_subjects(stage.build)}
    if not known or stage.state != Stage.State.OPEN:
        raise BadInput("faults are marked while a stage that is judged by eye is open")
    for name, faults in marks.items():
        subject = known.get(name)
        if subject is None or not set(faults) <= set(subject.faults):
            raise BadInput(f"{name} cannot be marked that way")
        for fault, step in faults.items():
            if step is not None and step not in subject.steps:
                raise BadInput(f"{fault} of {name}: {step:g} % is no step of the picture")
    stage.options = {**stage.options, "marks": marks}
    stage.save(update_fields=["options"])
    _compute(stage)


def _compute(stage: Stage) -> None:
    job = stage.sheet_print
    if job is not None and job.passes.filter(state=ReadingPass.State.DONE).exists():
        compute_stage(stage)
        return
    if not stage.build.mode.media.unreadable:
        return  # the eye alone does not decide where an instrument can
    stage.result = type_of(stage).compute_by_eye(stage, stage.options["marks"]).to_json()
    stage.made_under = stage.build.environment
    stage.save()


# --- matching --------------------------------------------------------------------------------


def looks(build: Build, channel: str) -> tuple[Array, Array, list[Array]]:
    """Lab of the paper, of the ink at its limit, and of the steps of every pair.

    As the print shows them where it can be looked at on screen, else as the usual colours of the inks.
    """
    raw, view = raw_steps(build, channel), view_of(build)
    inks = channels_of(build.mode.ink_set)
    seen = view.look(build.print_environment, raw) if view else generic_lab(raw[:, : len(inks)], inks)
    steps, at = [], 2
    for pair in pairs(build)[channel]:
        steps.append(seen[at : at + len(pair.steps)])
        at += len(pair.steps)
    return seen[0], seen[1], steps


@needs(MAKE)
@transaction.atomic
def match(stage: Stage, chosen: dict[str, dict[str, list[float]]]) -> None:
    """Keep matched steps (raw inputs, percent) by channel and tone; with all channels, curves are
    computed.
    """
    if stage.state != Stage.State.OPEN:
        raise BadInput("pairs are matched while linearization is open")
    known = pairs(stage.build)
    for channel, tones in chosen.items():
        steps = {f"{p.tone:g}": {round(100 * s, 2) for s in p.steps} for p in known.get(channel, [])}
        for tone, picked in tones.items():
            if tone not in steps or not set(picked) <= steps[tone]:
                raise BadInput(f"{channel}: a match at tone {tone} is no step of its pair")
    matches: dict[str, Any] = {**stage.options.get("matches", {}), **chosen}
    stage.options = {**stage.options, "aim": EYE, "matches": matches}
    inks = channels_of(stage.build.mode.ink_set)
    if set(matches) == set(inks):
        limits = decided(stage.build, INK_LIMITS)["limits"]
        found = find_by_eye({c: limits[c] for c in inks}, matches, step_widths(known))
        stage.result = found.to_json()
        stage.made_under = stage.build.environment
    stage.save()
