"""How builds begin: a new mode, a faster one, a new profile, refined limits."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.lifecycle.decisions import go_on, keep_from_base, open_stage
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.names import (
    DRIVER,
    GREY_BALANCE,
    INK_LIMITS,
    LINEARIZATION,
    TOTAL_INK,
    WHITE,
)
from greyanchor.builds.stages.registry import stage_types
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import InkSet, Media, Printer, PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.library.records.effective_settings import own_values, preset_for

#: stages that each kind of branch keeps from the build it is based on
KEEPS = {
    Build.Purpose.FASTER: [INK_LIMITS],
    Build.Purpose.PROFILE: [DRIVER, INK_LIMITS, LINEARIZATION, GREY_BALANCE, TOTAL_INK, WHITE],
    Build.Purpose.LIMITS: [],
}
WHY = {
    Build.Purpose.FASTER: "The environment is copied with fewer passes. Less time between passes spreads "
    "dots and dries "
    "less, so tone, total ink and profile are made again; the ink limits stand, and can be done again.",
    Build.Purpose.PROFILE: "Environment, limits, curves and total ink stand. A new chart is printed and "
    "read, and a new "
    "profile made, checked and released in place of the old one. Until then the old one stays in use.",
    Build.Purpose.LIMITS: "The readings of the ramps stand. When the limits stay as they are, everything "
    "after them stands "
    "too; when they move, curves are computed again, and what was printed through the old ones is asked "
    "for again.",
}
#: why a faster mode of films keeps nothing of the slow one
FILM_WHY = (
    "The environment is copied with fewer passes. Less time between passes spreads dots and dries less, so "
    "opacity and dots are made again."
)


@needs(MAKE)
@transaction.atomic
def start_build(
    name: str,
    printer: Printer,
    ink_set: InkSet,
    media: Media,
    choices: dict[str, Any],
    user: User,
    measuring: dict[str, Any] | None = None,
) -> Build:
    """Freeze an environment and open its first stage; the mode exists from now on, in builds."""
    if not ink_set.can_be_built:
        raise BadInput(f"{ink_set.name} of {printer.name} cannot be built for: {ink_set.not_built}")
    if ink_set not in printer.ink_sets.all():
        raise BadInput(f"{printer.name} does not run {ink_set.name}")
    if ink_set.is_film != bool(choices.get("screen")):
        raise BadInput(
            f"{ink_set.name} prints films: say through which screen"
            if ink_set.is_film
            else f"{ink_set.name} prints no films: leave the screen of films out"
        )
    if measuring and not media.unreadable:
        check_travel(str(measuring.get("method") or "strip"), media.name, media.travels_backwards)
    environment = PrintEnvironment(printer=printer.model, ink_set=ink_set.name, media=media.name, **choices)
    mode = _new_mode(name, printer, ink_set, media, environment, user, "build started")
    build = _new_build(mode, environment, user, Build.Purpose.WHOLE, None, measuring or {})
    open_stage(build.stages.earliest("position"))
    return build


def _new_mode(
    name: str,
    printer: Printer,
    ink_set: InkSet,
    media: Media,
    environment: PrintEnvironment,
    user: User,
    why: str,
    derived_from: PrintMode | None = None,
) -> PrintMode:
    if PrintMode.objects.filter(name=name).exists():
        raise BadInput(f"there is a print mode called {name} already; choose another name")
    frozen: dict[str, Any] = environment.as_dict()
    mode = PrintMode(
        name=name,
        printer=printer,
        ink_set=ink_set,
        media=media,
        environment=frozen,
        environment_hash=environment.content_hash(),
        derived_from=derived_from,
        made_by=user,
        preset=derived_from.preset if derived_from else preset_for(printer, media),
        handling=derived_from.handling if derived_from else own_values(printer, media, frozen),
    )
    set_history_author(mode, user, why).save()
    return mode


def _new_build(
    mode: PrintMode,
    environment: PrintEnvironment,
    user: User,
    purpose: str,
    base: Build | None,
    measuring: dict[str, Any],
) -> Build:
    build = Build.objects.create(
        mode=mode,
        owner=user,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        purpose=purpose,
        base=base,
        measuring=measuring,
    )
    kinds = [t for t in stage_types() if t.serves(mode.ink_set)]
    for position, stage_type in enumerate(kinds):
        Stage.objects.create(build=build, position=position, kind=stage_type.name)
    return build


def base_of(mode: PrintMode) -> Build:
    """The finished build that a mode in use is based on; `BadInput` when there is none."""
    base = mode.builds.filter(finished_at__isnull=False).order_by("-finished_at").first()
    if base is None:
        raise BadInput(f"{mode.name} has no finished build to branch from; release it first")
    return base


def _none_going_on(mode: PrintMode) -> None:
    other = mode.builds.filter(finished_at__isnull=True).first()
    if other is not None:
        raise BadInput(
            f"{mode.name} has a build going on already ({other.get_purpose_display()}); finish it first"
        )


@needs(MAKE)
@transaction.atomic
def derive_faster(mode: PrintMode, name: str, passes: int, direction: str, user: User) -> Build:
    """A faster mode from a slow one: the same environment with fewer passes, and the slow one's ink
    limits.
    """
    base = base_of(mode)
    slow = base.print_environment
    if passes > slow.passes or (passes == slow.passes and direction == slow.direction):
        raise BadInput(
            f"{mode.name} prints {slow.passes} passes {slow.direction}; choose fewer, or both ways"
        )
    if passes not in mode.printer.passes:
        raise BadInput(f"{mode.printer.name} runs {', '.join(map(str, mode.printer.passes))} passes")
    environment = PrintEnvironment(**{**base.environment, "passes": passes, "direction": direction})
    made = _new_mode(
        name, mode.printer, mode.ink_set, mode.media, environment, user, f"derived from {mode.name}", mode
    )
    build = _new_build(made, environment, user, Build.Purpose.FASTER, base, base.measuring)
    return _branch(build, user)


@needs(MAKE)
@transaction.atomic
def renew(mode: PrintMode, purpose: str, user: User) -> Build:
    """A new profile, or refined limits, for a mode in use; the mode changes only when it is released
    again.
    """
    if purpose not in (Build.Purpose.PROFILE, Build.Purpose.LIMITS):
        raise BadInput(f"there is no branch called {purpose}")
    if mode.state != PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; only a released mode is renewed")
    if mode.ink_set.is_film:
        raise BadInput(
            f"{mode.name} prints films: restore it, or start a new build for another film or screen"
        )
    if purpose == Build.Purpose.LIMITS and mode.ink_set.parts_itself:
        raise BadInput(f"{mode.printer.name} parts R G B itself, so {mode.name} has no limits to refine")
    _none_going_on(mode)
    base = base_of(mode)
    build = _new_build(mode, base.print_environment, user, purpose, base, base.measuring)
    return _branch(build, user)


def _branch(build: Build, user: User) -> Build:
    there = set(build.stages.values_list("kind", flat=True))
    there &= set(build.base.stages.values_list("kind", flat=True)) if build.base else set()
    kept = [k for k in KEEPS[Build.Purpose(build.purpose)] if k in there]
    keep_from_base(build, kept)
    if build.purpose == Build.Purpose.LIMITS:
        first = build.stages.get(kind=INK_LIMITS)
        before = build.base.stages.get(kind=INK_LIMITS)  # type: ignore[union-attr]
        first.sheet_print, first.result, first.options = before.sheet_print, before.result, before.options
        first.made_under, first.state = before.made_under, Stage.State.OPEN
        first.save()
        if first.sheet_print is None:
            open_stage(first)
        return build
    if not kept:
        open_stage(build.stages.earliest("position"))
        return build
    go_on(build.stages.get(kind=kept[-1]), {}, "", user)
    return build
