"""Keeping modes true: the short chart against the baseline, corrected curves, confirmed and put to use."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.maintenance import film_restores
from greyanchor.builds.models import Baseline, Restore
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.driver import restore_driver
from greyanchor.core.calibration.restore import RESTORED, Drift, compare_to_baseline, restore
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import is_additive, match_chart
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editing import set_history_author
from greyanchor.library.records.editions import keep_edition
from greyanchor.measuring.models import ReadingPass, SheetPrint, parsed
from greyanchor.measuring.pipelines import dry_minutes, sent_channels, to_raw
from greyanchor.measuring.printing import ReadingPlan, make_chart, prepare_print
from greyanchor.measuring.services import averaged


@needs(MAKE)
@transaction.atomic
def start_restore(mode: PrintMode, user: User, measuring: dict[str, Any] | None = None) -> Restore:
    """Lay out the short chart through the curves in use; `BadInput` when the mode has no baseline."""
    baseline = Baseline.objects.filter(mode=mode).first()
    if baseline is None:
        raise BadInput(f"{mode.name} has no baseline: its curves were not made from readings of its own")
    if baseline.withdrawn:
        raise BadInput(f"the readings of the baseline of {mode.name} were withdrawn: {baseline.withdrawn}")
    if mode.restores.exclude(state__in=[Restore.State.DONE, Restore.State.CLOSED]).exists():
        raise BadInput(f"{mode.name} is being restored already; go on with that, or close it")
    made = Restore(mode=mode, baseline=baseline, curves_before=mode.curves, started_by=user)
    made.sheet_print = _print(made, mode.curves, measuring or {}, "")
    made.save()
    _name_origin(made, made.sheet_print)
    return made


def _print(made: Restore, curves_csv: str, measuring: dict[str, Any], origin: str) -> SheetPrint:
    mode = made.mode
    plan = ReadingPlan.of(measuring)
    check_travel(plan.method, mode.media.name, mode.media.travels_backwards, not mode.media.unreadable)
    curves = CurveSet.from_csv(curves_csv, f"curves of {mode.name}")
    share = to_raw(mode.splits, curves.channels)
    environment = PrintEnvironment(**mode.environment)
    patches = _baseline_readings(made.baseline)
    chart = make_chart(
        "restore",
        patches.values(),
        f"{mode.name}: restore chart",
        environment,
        plan,
        curves.channels,
        facts=film_restores.sheet_facts(mode, curves),
    )
    return prepare_print(
        chart,
        environment,
        lambda device: share(curves.apply(device)),
        origin,
        mode.printer,
        sent_channels(mode.ink_set, mode.splits),
        dry_minutes(mode.ink_set, mode.media),
    )


def _name_origin(made: Restore, job: SheetPrint) -> None:
    SheetPrint.objects.filter(pk=job.pk).update(origin=f"/restores/{made.pk}/")


def _baseline_readings(baseline: Baseline) -> Any:
    return parsed(baseline.text, f"baseline of {baseline.mode}")


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Compare what was just read with the baseline."""
    job = reading_pass.sheet_print_id
    for found in Restore.objects.filter(
        sheet_print=job, state__in=[Restore.State.READING, Restore.State.FOUND]
    ):
        _find_drift(found)
    for found in Restore.objects.filter(
        confirm_print=job, state__in=[Restore.State.CONFIRMING, Restore.State.CONFIRMED]
    ):
        _confirm(found)


def on_readings_suspect(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Take back a drift, or what a second print measured, as long as its readings are suspect."""
    job = reading_pass.sheet_print_id
    Restore.objects.filter(sheet_print=job, state=Restore.State.FOUND).update(
        state=Restore.State.READING, drift=None, curves_after=""
    )
    Restore.objects.filter(confirm_print=job, state=Restore.State.CONFIRMED).update(
        state=Restore.State.CONFIRMING, after=None
    )


@transaction.atomic
def _find_drift(found: Restore) -> None:
    baseline, now = _baseline_readings(found.baseline), averaged(found.sheet_print)
    curves = CurveSet.from_csv(found.curves_before, "curves in use")
    now = _like_baseline(baseline, now)
    find = film_restores.restored if found.mode.ink_set.is_film else _restored
    after, lost, words = find(baseline, now, curves)
    found.drift = _facts(found, baseline, now, curves)
    found.drift["lost"] = lost
    found.drift["not_enough"] += words
    found.curves_after = after.to_csv()
    found.state = Restore.State.FOUND
    found.save()


def _facts(found: Restore, baseline: Any, now: Any, curves: CurveSet) -> dict[str, Any]:
    """How far readings are from the baseline, as plain values."""
    if found.mode.ink_set.is_film:
        return film_restores.drift_of(baseline, now, curves.channels[0])
    return drift_facts(compare_to_baseline(baseline, now, curves))


def _restored(baseline: Any, now: Any, curves: CurveSet) -> tuple[CurveSet, dict[str, float], list[str]]:
    """Corrected curves, what is lost by channel (percent), and that in words."""
    if is_additive(curves.channels):
        after, beyond = restore_driver(baseline, now, curves)
        words = [
            f"{c} is lost in the shadows: black would need {100 * v:.0f} % less of it than nothing"
            for c, v in beyond.items()
        ]
        return after, {c: round(100.0 * v, 1) for c, v in beyond.items()}, words
    made = restore(baseline, now, curves)
    words = [
        f"the limit of {c} is lost: it would need {100 * v:.0f} % of what the machine can print"
        for c, v in made.lost.items()
    ]
    return made.curves, {c: round(100.0 * v, 1) for c, v in made.lost.items()}, words


def _like_baseline(baseline: Any, now: Any) -> Any:
    """The readings of the patches that the baseline has, under its ids."""
    if len(baseline) == len(now):
        return match_chart(baseline, now, "device")
    wanted = {tuple(v) for v in baseline.values().round(4).tolist()}
    keep = [i for i, v in enumerate(now.values().round(4).tolist()) if tuple(v) in wanted]
    return match_chart(baseline, now.select(keep), "device")


def drift_facts(drift: Drift) -> dict[str, Any]:
    """A drift as plain values for JSON."""
    return {
        "mean": round(drift.mean, 4),
        "p95": round(drift.p95, 4),
        "max": round(drift.max, 4),
        "paper": round(drift.paper, 3),
        "overprints": round(drift.overprints, 3),
        "words": drift.words,
        "not_enough": list(drift.not_enough),
        "channels": {
            c: {
                "inputs": [round(float(v), 2) for v in d.inputs],
                "tone": [round(float(v), 3) for v in d.tone],
                "tone_max": round(d.tone_max, 2),
                "density": round(d.density, 3),
                "hue": round(d.hue, 2),
                "volume": round(100.0 * d.volume, 1),
                "residual": round(d.residual, 2),
                "film": round(100.0 * d.film, 1),
                "gain": round(d.gain, 1),
            }
            for c, d in drift.channels.items()
        },
    }


@needs(MAKE)
@transaction.atomic
def print_confirmation(found: Restore) -> SheetPrint:
    """The short chart again, through the corrected curves."""
    if found.state not in (Restore.State.FOUND, Restore.State.CONFIRMING):
        raise BadInput("read the short chart first")
    measuring = {"method": cgats.loads(found.sheet_print.chart.text, "chart").meta.get("METHOD", "strip")}
    found.confirm_print = _print(found, found.curves_after, measuring, f"/restores/{found.pk}/")
    found.state = Restore.State.CONFIRMING
    found.save()
    return found.confirm_print


@transaction.atomic
def _confirm(found: Restore) -> None:
    assert found.confirm_print is not None
    baseline = _baseline_readings(found.baseline)
    now = _like_baseline(baseline, averaged(found.confirm_print))
    curves = CurveSet.from_csv(found.curves_after, "corrected curves")
    found.after = _facts(found, baseline, now, curves)
    found.state = Restore.State.CONFIRMED
    found.save()


def came_back(found: Restore) -> bool:
    """Whether the confirming print is as the baseline was."""
    after = found.after or {}
    return film_restores.is_back(after) if found.mode.ink_set.is_film else after["mean"] <= RESTORED


@needs(MAKE)
@transaction.atomic
def use_curves(found: Restore, reason: str, user: User) -> Restore:
    """Put the corrected curves into production; a reason is needed where the confirming print did not come
    back.
    """
    if found.state != Restore.State.CONFIRMED or found.after is None:
        raise BadInput("the corrected curves were not confirmed by a print yet")
    mode = PrintMode.objects.select_for_update(of=("self",)).get(pk=found.mode_id)
    if mode.curves != found.curves_before:
        raise BadInput(
            f"the curves of {mode.name} were changed by somebody else since; start the restore again"
        )
    if (not came_back(found) or (found.drift or {}).get("not_enough")) and not reason:
        raise BadInput("say why these curves are used although they do not bring everything back")
    mode.curves = found.curves_after
    if mode.ink_set.is_film:
        film_restores.take_curves(mode, found.curves_after, found.after)
    mode.version += 1
    within = f"{found.after['mean']:.2f} {mode.drift_unit}"
    set_history_author(mode, user, f"restored to its baseline: mean {within}").save()
    if mode.state == PrintMode.State.RELEASED:
        text = f"restored to the baseline within {within}"
        keep_edition(mode, [{"rule": "restore", "ok": True, "text": text}], user)
    return _end(found, Restore.State.DONE, reason)


@needs(MAKE)
@transaction.atomic
def close_restore(found: Restore, note: str) -> Restore:
    """End a restore without changing the mode."""
    if found.state in (Restore.State.DONE, Restore.State.CLOSED):
        raise BadInput("this restore is over")
    return _end(found, Restore.State.CLOSED, note)


def _end(found: Restore, state: str, note: str) -> Restore:
    found.state, found.note, found.finished_at = state, note[:300], timezone.now()
    found.save()
    return found
