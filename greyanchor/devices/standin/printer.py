"""The simulated printer: sheets, memory slots, readiness patterns, and pictures of what it prints."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

from PIL import Image

from greyanchor.core.colour.colorimetry import Array, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.film_screen import SOLID
from greyanchor.core.simulation import faults
from greyanchor.core.simulation.catalogue import pigments, press_for
from greyanchor.core.simulation.machine import NOZZLES, Mechanics
from greyanchor.core.simulation.print_faults import seen_print
from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.ipp.memory import IppMemory
from greyanchor.devices.ports import Connection, Control, Machine, PrintTicket
from greyanchor.devices.standin.memory import SlotMemory

#: how far ink volumes may drift, percent, and paper may differ, Lab
DRIFT, PAPER = (50.0, 150.0), (-10.0, 10.0)
_PAPER_KEYS = ("paper_l", "paper_a", "paper_b")


class StandinPrinter:
    """Prints nothing but a number: the sheet is computed again whenever it is looked at.

    Its state holds ``drift`` (ink volumes by channel, 1.0 as on the first day), ``paper`` (Lab by which the
    media differs from the first delivery) and ``slots``.
    """

    name = "stand-in printer"
    nozzles = NOZZLES

    def __init__(self, connection: Connection) -> None:
        self._state = connection.state
        self._address = str(connection.options.get("address", "")).strip()
        self._machine = connection.machine or Machine("stand-in", "stand-in", "")

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        press_for(environment).as_raw(chart.values(), chart.channels)  # refuses inks that it has not
        facts: dict[str, Any] = {"seed": number, "age_days": 0.0}
        if SOLID in chart.meta:
            facts["solid"] = chart.meta[SOLID]
        if self._state.get("drift"):
            facts["drift"] = dict(self._state["drift"])
        if any(self._state.get("paper") or ()):
            facts["paper"] = list(self._state["paper"])
        return PrintTicket(self.name, facts)

    # --- looking -------------------------------------------------------------------------------

    def picture(self, environment: PrintEnvironment, raw: Array, number: int) -> bytes:
        out = io.BytesIO()
        drawn = Image.fromarray(faults.picture(press_for(environment), raw, number))
        drawn.save(out, format="PNG", optimize=True)
        return out.getvalue()

    def look(self, environment: PrintEnvironment, raw: Array) -> Array:
        return spectra_to_lab(press_for(environment).spectra(raw))

    def see_print(
        self,
        environment: PrintEnvironment,
        raw: Array,
        pixel_mm: float,
        handling: Mapping[str, float],
        number: int,
    ) -> Array:
        press = press_for(environment)
        if press.driven and raw.shape[-1] == 3:
            raw = press.as_raw(raw.reshape(-1, 3), tuple("RGB")).reshape(*raw.shape[:-1], -1)
        return seen_print(press, raw, pixel_mm, self._mechanics, handling, number)

    # --- memory --------------------------------------------------------------------------------

    @cached_property
    def _memory(self) -> SlotMemory | IppMemory:
        """In the printer itself where it has an address, else as this application keeps it."""
        kept, machine = self._state.setdefault("slots", {}), self._machine
        if self._address:
            return IppMemory(IppClient(self._address), machine.abilities, machine.slots, kept)
        return SlotMemory(kept, machine.abilities, machine.slots)

    def send(self, number: int, name: str, values: Mapping[str, float]) -> None:
        self._memory.send(number, name, values)

    def read(self, number: int) -> tuple[str, dict[str, float]]:
        return self._memory.read(number)

    def tune(self, number: int, key: str, value: float) -> None:
        self._memory.tune(number, key, value)

    # --- readiness -----------------------------------------------------------------------------

    @property
    def _mechanics(self) -> Mechanics:
        machine = self._machine
        return Mechanics(machine.serial or machine.name, machine.media, machine.thickness)

    def closed(self, channel: str, day: int, cleanings: int) -> list[int]:
        return self._mechanics.closed(channel, day, cleanings)

    def misfit(self, setting: str, values: Sequence[float], unit: float) -> Array:
        return self._mechanics.misfit(setting, values, unit)

    def read_misfit(self, setting: str, values: Sequence[float], unit: float, sheet: int) -> Array:
        return self._mechanics.read(setting, values, unit, sheet)

    # --- behaviour -----------------------------------------------------------------------------

    def controls(self) -> list[Control]:
        drift, paper = self._state.get("drift", {}), self._state.get("paper") or [0.0, 0.0, 0.0]
        inks = [Control(c, f"{c} volume, %", 100.0 * drift.get(c, 1.0), *DRIFT) for c in self._pigments]
        named = zip(_PAPER_KEYS, ("Paper L*", "Paper a*", "Paper b*"), paper)
        return [*inks, *(Control(key, label, value, *PAPER, 0.1) for key, label, value in named)]

    @property
    def _pigments(self) -> tuple[str, ...]:
        return pigments(self._machine.model)

    def control(self, values: Mapping[str, float]) -> None:
        for known in self.controls():
            if not known.low <= values.get(known.key, known.value) <= known.high:
                raise BadInput(
                    f"{known.label}: {values[known.key]:g} is outside {known.low:g}..{known.high:g}"
                )
        drift = {c: values.get(c, 100.0) / 100.0 for c in self._pigments}
        self._state["drift"] = {c: v for c, v in drift.items() if v != 1.0}
        self._state["paper"] = [values.get(key, 0.0) for key in _PAPER_KEYS]
