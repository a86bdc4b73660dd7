"""To the printer and back: handling settings in the slots of a machine's memory."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import Difference, Held, differences, setting_named
from greyanchor.devices.ports import MemoryPort
from greyanchor.library.machines.connections import opened, printer_port
from greyanchor.library.models import MediaPreset, Printer, PrintMode, SlotSent
from greyanchor.library.records.effective_settings import in_force, preset_in_force
from greyanchor.library.records.handling_edits import set_value


@dataclass(frozen=True)
class SlotView:
    """A slot: what was sent to it, what the machine holds, and where that differs from the settings now."""

    number: int
    name: str
    held: dict[str, float]
    sent: SlotSent | None
    differences: list[Difference]
    stale: bool

    @property
    def subject(self) -> MediaPreset | PrintMode | None:
        return (self.sent.mode or self.sent.preset) if self.sent else None


def memory_of(printer: Printer) -> MemoryPort | None:
    """The memory of a printer, to look at; None where its driver does not reach one."""
    port = printer_port(printer)
    return port if isinstance(port, MemoryPort) else None


def wanted_of(subject: MediaPreset | PrintMode, printer: Printer) -> dict[str, Held]:
    """The settings a preset or a mode wants on a printer; `BadInput` on another machine than its own."""
    if isinstance(subject, PrintMode):
        if subject.printer_id != printer.pk:
            raise BadInput(f"{subject.name} is a mode of {subject.printer.name}, not of {printer.name}")
        return in_force(subject)
    if subject.printer_model != printer.model:
        raise BadInput(
            f"{subject.name} is made for the {subject.printer_model}; {printer.name} is a {printer.model}"
        )
    return preset_in_force(subject, printer)


def _values(held: dict[str, Held]) -> dict[str, float]:
    return {key: h.value for key, h in held.items()}


@needs(USE)
@transaction.atomic
def send(printer_pk: int, number: int, subject: MediaPreset | PrintMode, user: User) -> SlotSent:
    """Send the settings in force of a preset or mode to a slot."""
    printer = Printer.objects.select_for_update(of=("self",)).get(pk=printer_pk)
    values = _values(wanted_of(subject, printer))
    if not values:
        raise BadInput(f"{printer.name} has no handling settings yet; a technician sets them on its page")
    with opened(printer) as port:
        if not isinstance(port, MemoryPort):
            raise BadInput(
                f"the driver of {printer.name} does not reach its memory; enter the settings at the machine"
            )
        port.send(number, subject.name, values)
    is_mode = isinstance(subject, PrintMode)
    return SlotSent.objects.update_or_create(
        printer=printer,
        number=number,
        defaults={
            "mode": subject if is_mode else None,
            "preset": None if is_mode else subject,
            "title": subject.name,
            "values": values,
            "sent_by": user,
        },
    )[0]


def slots_of(printer: Printer) -> list[SlotView]:
    """Every slot, read back from the machine; none where its memory is not reached."""
    memory = memory_of(printer)
    if memory is None:
        return []
    sent = {
        s.number: s
        for s in printer.slots_sent.select_related(
            "mode__printer",
            "mode__media__media_class",
            "mode__preset",
            "preset__media__media_class",
            "sent_by",
        )
    }
    return [_view(printer, memory, number, sent.get(number)) for number in range(1, printer.slots + 1)]


def _view(printer: Printer, memory: MemoryPort, number: int, sent: SlotSent | None) -> SlotView:
    name, held = memory.read(number)
    if sent is None or not held:
        return SlotView(number, name, held, sent if held else None, [], False)
    subject: Any = sent.mode or sent.preset
    try:
        wanted = _values(wanted_of(subject, printer)) if subject else sent.values
    except BadInput:
        wanted = sent.values
    found = differences(wanted, held, printer.ability_map)
    return SlotView(number, name, held, sent, found, wanted != sent.values)


@needs(MAKE)
@transaction.atomic
def take_over(printer: Printer, number: int, key: str, user: User) -> Any:
    """Hold a value that was tuned at the machine in the preset or mode it belongs to."""
    setting = setting_named(key)
    memory = memory_of(printer)
    if memory is None:
        raise BadInput(f"the memory of {printer.name} is not reached from here")
    found = _view(printer, memory, number, printer.slots_sent.filter(number=number).first())
    if found.subject is None or found.sent is None:
        raise BadInput(
            f"slot {number} was not filled from here, so there is nothing to take its values over to"
        )
    if key not in found.held:
        raise BadInput(f"slot {number} holds no {setting.title.lower()}")
    if all(d.setting.key != key for d in found.differences):
        raise BadInput(f"{setting.title} in slot {number} is as required already")
    why = f"{setting.title} tuned at {printer.name}, slot {number}"
    return set_value(found.subject, key, found.held[key], user, why)
