"""A mode held to its baseline with nobody there, restored where it drifted, and checked afterwards."""

from __future__ import annotations

from django.db import transaction

from greyanchor.builds.maintenance import restores
from greyanchor.builds.models import Restore
from greyanchor.checks.models import CheckPrint
from greyanchor.checks.services import Order
from greyanchor.checks.strip_prints import StripChoice, start_check_print
from greyanchor.core.calibration.nightly import LEAVE, PERSON, DriftLimits, decide
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from greyanchor.unattended import sheets
from greyanchor.unattended.models import NightRule, Unattended
from greyanchor.unattended.records import done, note
from greyanchor.unattended.stops import Stop

State = Restore.State


def go_on(work: Unattended) -> bool:
    """One step further; whether there is more to do. Raises `Stop` or `Wait`."""
    try:
        return _step(work)
    except BadInput as error:
        raise Stop("drift", error.sentence) from error


def _step(work: Unattended) -> bool:
    found = work.restore
    if found is None:
        mode = PrintMode.objects.select_related("printer", "media", "ink_set").get(pk=work.mode_id)
        with transaction.atomic():
            work.restore = restores.start_restore(mode, work.started_by, {"method": sheets.INLINE})
            work.save(update_fields=["restore"])
        return True
    found.refresh_from_db()
    if found.state == State.READING:
        sheets.evidence(work, found.sheet_print, 1)
        found.refresh_from_db()
        if found.state == State.READING:
            raise Stop("suspect", "the short chart was read and not compared")
        return True
    if found.state == State.FOUND:
        return _decide(work, found)
    if found.state == State.CONFIRMING:
        assert found.confirm_print is not None
        sheets.evidence(work, found.confirm_print, 1)
        return True
    if found.state == State.CONFIRMED:
        return _use(work, found)
    return _check(work)


def _decide(work: Unattended, found: Restore) -> bool:
    drift = found.drift or {}
    unit = found.mode.drift_unit
    what = decide(drift["mean"], _limits(work), drift.get("not_enough") or [], _short_before(found), unit)
    figure = "; ".join(drift.get("words") or [])
    if what.act == PERSON:
        raise Stop("lost", what.why)
    with transaction.atomic():
        note(work, "Left as it is" if what.act == LEAVE else "Restored", figure, what.why, True)
        if what.act == LEAVE:
            restores.close_restore(found, f"unattended: {what.why}")
            done(work, what.why)
            return False
        restores.print_confirmation(found)
    return True


def _limits(work: Unattended) -> DriftLimits:
    rule = NightRule.objects.filter(mode=work.mode_id).first()
    return rule.limits if rule else DriftLimits()


def _short_before(found: Restore) -> bool:
    """Whether the last restore that changed the curves could not bring everything back."""
    last = found.mode.restores.filter(state=State.DONE).order_by("-finished_at").first()
    return bool(last and (last.drift or {}).get("not_enough"))


def _use(work: Unattended, found: Restore) -> bool:
    after = found.after or {}
    unit = found.mode.drift_unit
    if not restores.came_back(found):
        raise Stop("drift", f"corrected curves come back only to {after['mean']:.2f} {unit} mean")
    lost = (found.drift or {}).get("not_enough") or []
    reason = f"unattended, once: {'; '.join(lost)}" if lost else ""
    with transaction.atomic():  # no decision without its line
        restores.use_curves(found, reason, work.started_by)
        note(
            work,
            "Corrected curves in use",
            f"{after['mean']:.2f} {unit} mean from the baseline",
            reason,
            True,
        )
    return True


def _check(work: Unattended) -> bool:
    """After curves were changed: a strip through the mode, held to the rule's aim."""
    after = (work.restore.after or {}).get("mean") if work.restore else None
    words = (
        f"restored, {after:.2f} {work.mode.drift_unit} mean from its baseline" if after is not None else ""
    )
    rule = NightRule.objects.filter(mode=work.mode_id).select_related("aim").first()
    if rule is None or rule.aim is None:
        done(work, f"{words}; no check is asked for")
        return False
    if work.check_print is None:
        mode = PrintMode.objects.select_related("printer", "media", "ink_set", "profile").get(pk=work.mode_id)
        order = Order(rule.aim, rule.tolerances, True)
        choice = StripChoice(method=sheets.INLINE)
        with transaction.atomic():
            work.check_print = start_check_print(mode, order, choice, work.started_by)
            work.save(update_fields=["check_print"])
    job = work.check_print.sheet_print
    sheets.evidence(work, job, 1)
    made = CheckPrint.objects.get(pk=work.check_print.pk).made_check
    if made is None:
        raise Stop("check", "the strip was read and no check was made of it")
    work.check_made = made
    work.save(update_fields=["check_made"])
    if made.verdict != "pass":
        raise Stop("check", f"{words}, and its check fails: {made.summary}")
    done(work, f"{words}; its check passes: {made.summary}")
    return False
