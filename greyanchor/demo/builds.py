"""Print modes of the demo, carried through their builds as a technician would, with a stand-in's readings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any

from django.contrib.auth.models import User

from greyanchor.builds.evidence.charts import lay_out_confirmation, lay_out_stage
from greyanchor.builds.lifecycle.acceptance_rules import objections
from greyanchor.builds.lifecycle.decisions import accept_stage
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.builds.stages.accepted import total_of
from greyanchor.builds.stages.base import StageType
from greyanchor.builds.stages.profile import ProfileStageResult
from greyanchor.builds.stages.registry import stage_types, type_of
from greyanchor.core.printing.environment import OFF
from greyanchor.core.profiling.build import build_profile
from greyanchor.demo.prints import read_print
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.library.modes.services import retire_mode
from greyanchor.library.records.effective_settings import FROZEN, start_values
from greyanchor.measuring.services import averaged, calibrate_white, read_row, start_pass
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import settings_from

#: when profiles of the demo say that they were made, so that they are the same bytes on every machine
CREATED = datetime(2026, 9, 1, 8, 0, 0, tzinfo=UTC)
#: patches of a profile chart that is left half read, and the rows that were read of it
HALF_READ_PATCHES, HALF_READ_ROWS = 420, 8


@dataclass(frozen=True)
class Plan:
    """One print mode: where, on what, how, and how far its build went.

    `until` is the stage it is left in, or "ready" or "released"; `read` whether that stage was read.
    """

    name: str
    printer: str
    media: str
    passes: int
    until: str
    patches: int = 320
    full: bool = False
    retire: str = ""
    greys: bool = False
    read: bool = True
    inks: str = ""  # of the printer; its first ones where empty
    screen: str = ""  # of films
    resolution: int = 1200


def carry_out(plan: Plan, users: dict[str, User], aim: int) -> Build:
    """Build a mode as far as its plan says; `aim` is the key of the aim its check is held to."""
    printer, media = Printer.objects.get(name=plan.printer), Media.objects.get(name=plan.media)
    user = users["ines" if printer.site.name == "Quay Street" else "tobias"]
    choices = {
        "resolution": plan.resolution if plan.resolution in printer.resolutions else printer.resolutions[0],
        "passes": plan.passes,
        "direction": "both ways" if "both ways" in plan.name else "one way",
        "halftone": "blue noise",
        **handling_choices(printer, media),
    }
    if printer.driver:
        settings = {f"driver_{what}": printer.driver[what][0] for what in ("media", "quality")}
        choices |= {**settings, "driver_colour": OFF}
    if plan.screen:
        choices["screen"] = plan.screen
    sets = printer.ink_sets.order_by("pk")
    ink_set = (sets.filter(name=plan.inks) if plan.inks else sets).first()
    assert ink_set is not None
    build = start_build(plan.name, printer, ink_set, media, choices, user, {"greys": plan.greys})
    for stage_type in stage_types():
        if stage_type.name == plan.until:
            if plan.read:
                _half_way(build, stage_type, user)
            return build
        if stage_type.releases:
            break
        if stage_type.serves(ink_set) and stage_type.wanted(build):
            _make_evidence(build, stage_type, plan, user, aim)
            accept(build, stage_type.name, user)
    if plan.until == "released":
        note = f"Made and proven at {printer.site.name}. Dry before trimming."
        accept(build, names.RELEASE, users["ines"], {"note": note})
    if plan.retire:
        mode = PrintMode.objects.get(pk=build.mode_id)
        retire_mode(mode.pk, mode.version, users["ines"], plan.retire)
    return build


def handling_choices(printer: Printer, media: Media) -> dict[str, float]:
    """Heat and vacuum as presets, classes and the machine have them; nothing of what the machine has not."""
    values = start_values(printer, media)
    return {name: values[key].value for name, key in FROZEN.items() if key in values}


def stage_named(build: Build, name: str) -> Stage:
    """A stage as it stands now."""
    return build.stages.select_related("build__mode__profile", "sheet_print__chart").get(kind=name)


def accept(build: Build, name: str, user: User, values: dict[str, Any] | None = None) -> None:
    """Accept a stage with what it found, or with `values`; a reason is given where one is required."""
    stage = stage_named(build, name)
    if values is None:
        values = type_of(stage).found_values(stage)
    reason = "kept for drafts only, the media cannot reach the aim" if objections(stage, values) else ""
    build.refresh_from_db()
    accept_stage(stage.pk, build.version, values, reason, user)


def _make_evidence(build: Build, stage_type: StageType[Any], plan: Plan, user: User, aim: int) -> None:
    chosen = {
        names.PROFILE_CHART: {"patches": plan.patches, "page": "a4"},
        names.CHECK: {"aim": aim, "tolerances": "iso12647-7:2016", "corrected": True},
    }
    stage = stage_named(build, stage_type.name)
    if not stage_type.passes:
        _make_profile(stage, plan, user)
        return
    if stage_type.name in chosen:
        lay_out_stage(stage, chosen[stage_type.name])
    _read(build, stage_type, stage_type.passes, user)


def _read(build: Build, stage_type: StageType[Any], passes: int, user: User) -> None:
    stage = stage_named(build, stage_type.name)
    assert stage.sheet_print is not None
    read_print(stage.sheet_print, passes, user)
    if stage_type.confirms and passes > 1:
        stage.refresh_from_db()
        read_print(lay_out_confirmation(stage), passes, user)


def _make_profile(stage: Stage, plan: Plan, user: User) -> None:
    chart = stage_named(stage.build, names.PROFILE_CHART).sheet_print
    total = total_of(stage.build)
    assert chart is not None
    inks = chart.chart.patches.channels
    stage.options = {
        "title": plan.name,
        "total_ink": min(total or 100.0 * len(inks), 300.0),
        "black_start": 25.0,
        "black_strength": 50.0,
        "max_black": 100.0,
        "version": 4,
        "quality": "full" if plan.full else "draft",
    }
    readings = averaged(chart)
    result = build_profile(
        readings, replace(settings_from(stage.options, plan.name, len(inks)), created=CREATED)
    )
    made_from = {
        "environment": stage.build.environment_hash,
        "readings": readings.content_hash(),
        "chart": chart.chart.content_hash,
    }
    stage.profile = keep_profile(result, plan.name, 4, stage.options, made_from, user)
    stage.result = ProfileStageResult.of_report(result.report).to_json()
    stage.save()


def _half_way(build: Build, stage_type: StageType[Any], user: User) -> None:
    """Leave a build in the middle of a stage, the way a working day ends."""
    if stage_type.opening_options(stage_named(build, stage_type.name)) is not None:
        _read(build, stage_type, stage_type.passes, user)
    elif stage_type.passes:
        _read_half(build, stage_type, user)


def _read_half(build: Build, stage_type: StageType[Any], user: User) -> None:
    lay_out_stage(stage_named(build, stage_type.name), {"patches": HALF_READ_PATCHES, "page": "a4"})
    _read(build, stage_type, 1, user)
    job = stage_named(build, stage_type.name).sheet_print
    assert job is not None
    current = start_pass(job, user)
    calibrate_white(current.pk)
    for row in range(1, HALF_READ_ROWS + 1):
        while not read_row(current.pk, row).kept:
            pass
