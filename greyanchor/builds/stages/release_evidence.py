"""What a release is based on: its evidence, held to the shop's rules, and the readings that go with it."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.dispatch import Signal
from django.utils import timezone

from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.registry import stage_types, type_of
from greyanchor.core.calibration.film import TRUE_LARGEST, TRUE_MEAN
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.repeatability import Comparison
from greyanchor.library.models import KeptText, PrintMode, ShopRules
from greyanchor.library.modes.services import locked_mode, release_mode
from greyanchor.measuring.models import ReadingPass, written
from greyanchor.measuring.queries import double_reading
from greyanchor.measuring.services import averaged

#: whoever prints answers for a `mode` with whether a trial print found it fit, and how it was, in words; with
#: nothing where none was printed through it as it is
trial_of = Signal()


def evidence(mode: PrintMode, build: Build | None = None) -> list[dict[str, Any]]:
    """What the shop's rules ask for, each as {rule, ok, text}; `build` is the log it was made in, where there
    is one.
    """
    rules = ShopRules.current()
    if mode.ink_set.is_film:
        films = [_opaque(mode), _dots(mode)]
        return [_double(mode, build), *films] if rules.double_reading else films
    items = [_profile(mode, rules), _check(mode, rules)]
    if rules.trial_print:
        items.append(_trial(mode))
    return [_double(mode, build), *items] if rules.double_reading else items


def _opaque(mode: PrintMode) -> dict[str, Any]:
    film = mode.film
    if not film.get("density"):
        return _fact("opacity", False, "how opaque its solid is, was not found")
    words = f"{film['which']} density {film['density']:.2f}, {film['asked']:g} is asked for"
    return _fact("opacity", film["density"] >= film["asked"], f"the solid has {words}")


def _dots(mode: PrintMode) -> dict[str, Any]:
    film = mode.film
    if "mean" not in film:
        return _fact("dots", False, "its dots were not confirmed by a second print")
    words = f"dots within {film['mean']:.2f} % mean and {film['max']:.2f} % largest, confirmed by a print"
    return _fact("dots", film["mean"] <= TRUE_MEAN and film["max"] <= TRUE_LARGEST, words)


def _trial(mode: PrintMode) -> dict[str, Any]:
    said: list[Any] = [answer for _, answer in trial_of.send(PrintMode, mode=mode) if answer]
    if not said:
        return _fact("trial print", False, "no trial form was printed through the mode as it is")
    ok, text = said[0]
    return _fact("trial print", bool(ok), str(text))


def _fact(rule: str, ok: bool, text: str) -> dict[str, Any]:
    return {"rule": rule, "ok": ok, "text": text}


def _double(mode: PrintMode, build: Build | None) -> dict[str, Any]:
    if build is None:
        return _fact(
            "double reading",
            False,
            f"{mode.name} was not made in a log of this shop, so no double reading is known",
        )
    missing: list[str] = []
    worst: Comparison | None = None
    for stage in build.stages.filter(
        kind__in=[t.name for t in stage_types() if t.read_twice_rule]
    ).select_related("sheet_print"):
        if stage.source in (Stage.Source.INHERITED, Stage.Source.SKIPPED) or stage.sheet_print is None:
            continue
        title, found = type_of(stage).title.lower(), double_reading(stage.sheet_print)
        if found is None:
            missing.append(f"{title} was read once")
        elif not found.acceptable():
            missing.append(f"the passes of {title} differ by {found.within}")
        elif worst is None or found.mean > worst.mean:
            worst = found
    if missing:
        return _fact("double reading", False, "; ".join(missing))
    text = f"read twice, passes within {worst.within}" if worst else "nothing was read in this build"
    return _fact("double reading", True, text)


def _profile(mode: PrintMode, rules: ShopRules) -> dict[str, Any]:
    held = ((mode.profile.report or {}).get("held_out") or {}).get("mean") if mode.profile else None
    if held is None:
        why = (
            "there is no profile"
            if mode.profile is None
            else "nothing is known of how true the profile is on unseen patches"
        )
        return _fact("profile quality", False, why)
    if held > rules.profile_error:
        return _fact(
            "profile quality",
            False,
            (
                f"the profile is off by {held:.2f} dE00 mean on unseen patches, the rule is "
                f"{rules.profile_error:g}"
            ),
        )
    return _fact("profile quality", True, f"profile true to {held:.2f} dE00 mean on unseen patches")


def _check(mode: PrintMode, rules: ShopRules) -> dict[str, Any]:
    last = mode.checks.order_by("-made_at", "-pk").only("verdict", "made_at", "summary").first()
    if last is None:
        return _fact("passing check", False, "it was never checked")
    days = (timezone.now() - last.made_at).days
    if last.verdict != "pass":
        return _fact(
            "passing check", False, f"its last check, {last.made_at:%-d %B %Y}, failed: {last.summary}"
        )
    if days > rules.check_days:
        return _fact(
            "passing check",
            False,
            f"its last passing check is {days} days old, the rule is {rules.check_days}",
        )
    return _fact("passing check", True, f"passed its check of {last.made_at:%-d %B %Y}")


def readings_of(build: Build) -> list[dict[str, str]]:
    """Readings a build is based on, kept: ramps, profile chart and check as {purpose, sha256}."""
    out = []
    for stage in build.stages.select_related("sheet_print__chart"):
        job = stage.sheet_print
        if job is None or not job.passes.filter(state=ReadingPass.State.DONE).exists():
            continue
        kept = KeptText.of(written(averaged(job)), KeptText.Kind.READINGS)
        out.append({"purpose": type_of(stage).title, "sha256": kept.sha256})
    return out


@needs(RELEASE)
@transaction.atomic
def release(pk: int, based_on: int, note: str, exception: str, user: User) -> PrintMode:
    """Release a mode outside its log: one that was imported, or was sent back and handed in again."""
    mode = locked_mode(pk, based_on)
    if mode.state == PrintMode.State.RELEASED:
        raise BadInput(f"{mode.name} is released already")
    build = mode.builds.order_by("-pk").first()
    if build is not None and build.finished_at is None:
        raise BadInput(f"the log of {mode.name} is not at its end; release it there")
    readings = readings_of(build) if build else None
    return release_mode(pk, user, note, evidence(mode, build), exception, readings)
