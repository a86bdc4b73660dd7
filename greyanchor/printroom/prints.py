"""Prints: ordered, sent to the machine, followed until they are on the table.

The shop keeps the order of what waits; a machine has what it prints and the next one. A print is known to
its machine by a key, so that whoever goes on after a kill asks first what is there.
"""

from __future__ import annotations

import uuid
from typing import Any

import structlog
from django.contrib.auth.models import User
from django.core.cache import cache
from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.client import NoAnswer
from greyanchor.devices.ports import MachineState, PrintState, QueuePort
from greyanchor.library.machines.connections import queue_of
from greyanchor.library.models import Printer
from greyanchor.measuring.claims import claimed
from greyanchor.printroom import files, proof, rolls
from greyanchor.printroom.models import Print, PrintFile, week_of
from greyanchor.printroom.signals import print_over
from greyanchor.printroom.tickets import edition_of

#: prints that a machine has at a time: the one it prints, and the next
AT_A_TIME = 2
#: seconds after which a print that is being sent is taken up by another worker
_SILENT = 30.0
_log = structlog.get_logger(__name__)
State = Print.State


# --- what people do --------------------------------------------------------------------------


@needs(USE)
@transaction.atomic
def order(record: PrintFile, user: User | None, hold: bool = True, again_of: Print | None = None) -> Print:
    """Put a print file on the list of its machine, held or to go by itself.

    Raises `BadInput` for one that is not prepared, or whose mode has another edition by now.
    """
    if record.state != PrintFile.State.DONE or not record.file:
        raise BadInput(f"{record} is {record.get_state_display()}, not prepared")
    mode = record.mode
    if mode is None:
        raise BadInput(f"{record} has no print mode")
    if edition_of(mode) != record.ticket["edition"]:
        raise BadInput(f"{mode.name} has another edition by now: prepare the job again")
    last = Print.objects.filter(printer=mode.printer).aggregate(last=Max("place"))["last"] or 0.0
    made = Print.objects.create(
        print_file=record,
        printer=mode.printer,
        key=uuid.uuid4().hex[:12],
        state=State.HELD if hold else State.READY,
        place=last + 1.0,
        asked_by=user,
        again_of=again_of,
    )
    _log.info("print ordered", print=made.pk, key=made.key, printer=mode.printer.name)
    return made


@needs(USE)
def go(record: Print) -> None:
    """Let a held print go. Raises `BadInput` for one that is not held, and where the machine cannot do it."""
    if record.state == State.HELD:
        queue = _queue(record.printer)
        troubles = what_is_wrong(record, queue.machine())
        if troubles:
            raise BadInput(f"{record} cannot be printed now: {'; '.join(troubles)}")
    if not Print.objects.filter(pk=record.pk, state=State.HELD).update(state=State.READY, reason=""):
        raise BadInput(f"{record} is {record.get_state_display()}, not held")


@needs(USE)
def hold(record: Print) -> None:
    """Keep a print that was not sent yet. Raises `BadInput` for one that the machine has."""
    if not Print.objects.filter(pk=record.pk, state=State.READY).update(state=State.HELD):
        raise BadInput(f"{record} is {record.get_state_display()}; what was not sent yet can be held")


@needs(USE)
def cancel(record: Print) -> None:
    """Cancel a print, wherever it is. Raises `BadInput` for one that is over."""
    if Print.objects.filter(pk=record.pk, state__in=[State.HELD, State.READY]).update(
        state=State.CANCELLED,
        reason="before it was sent",
        ended_at=timezone.now(),
        week=week_of(timezone.now()),
    ):
        return
    if not Print.objects.filter(pk=record.pk, state__in=Print.AT_PRINTER).update(cancel_asked=True):
        raise BadInput(f"{record} is {record.get_state_display()}; nothing is left to cancel")


@needs(USE)
def again(record: Print, user: User | None) -> Print:
    """Print the same file once more, held. Raises `BadInput` for a print that is not over."""
    if not record.is_over:
        raise BadInput(f"{record} is {record.get_state_display()}; it can be printed again when it is over")
    return order(record.print_file, user, again_of=record)


@needs(USE)
def pause(printer: Printer, is_paused: bool) -> None:
    """Pause a machine, or let it go on. Raises `BadInput` where it is not reached or cannot."""
    _queue(printer).pause(is_paused)


@needs(USE)
@transaction.atomic
def move(record: Print, before: Print | None) -> None:
    """Put a print that was not sent yet before another one, or last."""
    waiting = Print.objects.select_for_update().filter(
        printer=record.printer_id, state__in=[State.HELD, State.READY]
    )
    if not waiting.filter(pk=record.pk).exists():
        raise BadInput(f"{record} is {record.get_state_display()}; what was not sent yet can be moved")
    others = waiting.exclude(pk=record.pk)
    if before is None or not others.filter(pk=before.pk).exists():
        place = (others.aggregate(last=Max("place"))["last"] or 0.0) + 1.0
    else:
        above = others.filter(place__lt=before.place).aggregate(last=Max("place"))["last"]
        place = (before.place + above) / 2.0 if above is not None else before.place - 1.0
    waiting.filter(pk=record.pk).update(place=place)


# --- what the machine says -------------------------------------------------------------------


def _queue(printer: Printer) -> QueuePort:
    queue = queue_of(printer)
    if queue is None:
        raise BadInput(
            f"no driver sends print files to {printer.name}: give it an address under Devices, or take the "
            "planes to it as a file"
        )
    return queue


def machine_of(printer: Printer) -> MachineState:
    """What a printer says of itself. Raises `BadInput` where none is reached."""
    return _queue(printer).machine()


#: seconds for which pages share what a machine said, and that it did not answer
_SEEN, _MISSED = 0.5, 5.0


def machine_seen(printer: Printer) -> MachineState:
    """The same for pages, which share an answer for a moment: ten people looking ask a machine once."""
    key = f"machine {printer.pk}"
    held = cache.get(key)
    if held is None:
        try:
            held = machine_of(printer)
            cache.set(key, held, _SEEN)
        except BadInput as error:
            held = error.reason
            cache.set(key, held, _MISSED)
    if isinstance(held, str):
        raise BadInput(held)
    return held  # type: ignore[no-any-return]


def what_is_wrong(record: Print, machine: MachineState) -> list[str]:
    """Why a print cannot be printed on what is in the machine now, in words."""
    ticket, facts, found = record.print_file.ticket, record.print_file.facts, []
    wide, long = size_mm(record)
    if machine.model and machine.model != ticket.get("printer"):
        found.append(f"it was made for {ticket.get('printer')}, the machine is {machine.model}")
    if machine.ink_set and ticket.get("ink_set") not in (machine.ink_set, *machine.other_sets):
        found.append(f"it was made for the inks {ticket.get('ink_set')}, in the machine is {machine.ink_set}")
    wanted = ticket.get("settings", {}).get("environment", {}).get("media", "")
    if machine.media and wanted and machine.media != wanted:
        found.append(f"it was made for {wanted}, in the machine is {machine.media}")
    if machine.width_mm is not None and wide > machine.width_mm + 0.5:
        found.append(f"it is {wide:.0f} mm wide, the media {machine.width_mm:.0f}")
    if machine.length_mm is not None and long > machine.length_mm:
        found.append(f"it takes {long / 1000:.2f} m of media, {machine.length_mm / 1000:.2f} m are left")
    for ink, level in machine.inks.items():
        if level <= 0.0 and facts.get("ink_ml", {}).get(ink, 0.0) > 0.0:
            found.append(f"{ink} is empty")
    return found


def size_mm(record: Print) -> tuple[float, float]:
    """Width and length of a print."""
    facts = record.print_file.facts
    dots = float(facts.get("resolution") or 1.0)
    return float(facts.get("width", 0)) / dots * 25.4, length_of(record.print_file)


def length_of(record: PrintFile) -> float:
    """mm of media that a print file takes."""
    dots = float(record.facts.get("resolution") or 1.0)
    return float(record.facts.get("height", 0)) / dots * 25.4


# --- what workers do -------------------------------------------------------------------------


def sweep() -> int:
    """Send what may go and ask how the rest goes, machine after machine; how many prints changed.

    One process at a time does a machine; another takes over when that one is gone.
    """
    changed = 0
    busy = Print.objects.exclude(state__in=[*Print.OVER, State.HELD]).values_list("printer", flat=True)
    for printer in Printer.objects.filter(pk__in=set(busy)):
        with claimed(f"prints of printer {printer.pk}", _SILENT) as mine:
            if mine:
                changed += _serve(printer)
    return changed


def _serve(printer: Printer) -> int:
    queue = queue_of(printer)
    if queue is None:
        return 0
    changed = 0
    for record in Print.objects.filter(printer=printer, state__in=Print.AT_PRINTER).order_by("sent_at"):
        try:
            changed += _followed(record, queue)
        except NoAnswer as error:
            _heard(record, reason=error.reason[:300])
            return changed
        except BadInput as error:
            changed += _over(record, State.FAILED, error.reason)
    there = Print.objects.filter(printer=printer, state__in=Print.AT_PRINTER).count()
    ready = Print.objects.filter(printer=printer, state=State.READY).order_by("place")
    for record in ready[: max(0, AT_A_TIME - there)]:
        if Print.objects.filter(pk=record.pk, state=State.READY).update(
            state=State.SENDING, sent_at=timezone.now(), heard_at=timezone.now(), reason=""
        ):
            changed += 1
            record.state = State.SENDING
            try:
                _send(record, queue)
            except NoAnswer as error:
                _heard(record, reason=error.reason[:300])
                break
            except BadInput as error:
                _over(record, State.FAILED, error.reason)
    return changed


def _send(record: Print, queue: QueuePort) -> None:
    machine = queue.machine()
    troubles = what_is_wrong(record, machine)
    if troubles:
        Print.objects.filter(pk=record.pk).update(
            state=State.HELD, reason="; ".join(troubles)[:300], sent_at=None
        )
        return
    path = files.local(record.print_file.file)
    if not path.exists():
        raise BadInput("its print file is gone: prepare the job again")
    number = queue.send(record.key, str(record), path)
    _log.info("print sent", print=record.pk, key=record.key, number=number, printer=record.printer.name)
    roll = rolls.roll_in(record.printer, machine)
    _heard(record, number=number, state=State.WAITING, media=machine.media[:160], roll=roll)


def _followed(record: Print, queue: QueuePort) -> int:
    """Ask how a print goes. One that was being sent when its worker died is looked for by its key first."""
    if record.number is None:
        found = queue.find(record.key)
        if found is None or found.state == "incoming":
            _send(record, queue)
            return 1
        _heard(record, number=found.number, state=State.WAITING)
        record.number = found.number
    state = queue.state_of(record.number)
    if record.cancel_asked and state.state not in ("cancelled", "failed", "done"):
        queue.act(record.number, "cancel")
        state = queue.state_of(record.number)
    return _kept(record, state, queue)


def _kept(record: Print, state: PrintState, queue: QueuePort) -> int:
    now = timezone.now()
    facts: dict[str, Any] = {
        "share": state.share if state.share is not None else record.share,
        "seconds_left": state.seconds_left,
        "media_mm": state.media_mm or 0.0,
        "ink_ml": {k: round(v, 4) for k, v in state.ink_ml.items()},
        "ink_total_ml": round(sum(state.ink_ml.values()), 4),
        "heard_at": now,
        "reason": state.reason[:300],
    }
    if state.state in ("printing", "stopped") and record.started_at is None:
        facts["started_at"] = now
    if state.state in ("cancelled", "failed", "done"):
        if state.state == "done":
            facts["picture"] = _picture(record, queue)
            facts["started_at"] = record.started_at or now
        reason = state.reason
        if (state.media_mm or 0.0) > 0.0:
            machine = queue.machine()
            facts["roll"] = rolls.roll_in(record.printer, machine)
            if record.media and machine.media and machine.media != record.media[:160]:
                changed = f"the media was changed in the middle: {record.media}, then {machine.media}"
                reason = f"{reason}; {changed}" if reason else changed
        del facts["reason"], facts["seconds_left"]
        with transaction.atomic():
            _over(record, State(state.state), reason, **facts)
            if state.state == "done":
                proof.strip_of_print(record)
        return 1
    spoken = {"held": State.WAITING, "incoming": State.SENDING}.get(state.state) or State(state.state)
    Print.objects.filter(pk=record.pk).update(state=spoken, **facts)
    return int(spoken != record.state)


def _picture(record: Print, queue: QueuePort) -> str:
    assert record.number is not None
    try:
        data = queue.picture(record.number)
    except BadInput:
        return ""
    if not data:
        return ""
    name = f"prints/of/{record.pk}.png"
    with files.whole(name) as partial:
        partial.write_bytes(data)
    return name


def _heard(record: Print, **facts: Any) -> None:
    Print.objects.filter(pk=record.pk).update(heard_at=timezone.now(), **facts)


def _over(record: Print, state: str, reason: str, **facts: Any) -> int:
    Print.objects.filter(pk=record.pk).update(
        **{
            **facts,
            "state": state,
            "reason": reason[:300],
            "ended_at": timezone.now(),
            "week": week_of(timezone.now()),
            "seconds_left": None,
        }
    )
    record.refresh_from_db()
    print_over.send(Print, record=record)
    return 1
