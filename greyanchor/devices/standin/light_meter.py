"""The simulated light meter, and the booths and tables that it is held under."""

from __future__ import annotations

import zlib
from collections.abc import Mapping

import numpy as np

from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.simulation.booth import Booth, LightMeter
from greyanchor.devices.ports import LIGHT, Connection, Control, Driver, LightMeterPort, LightReading

#: minutes for which it remembers what dark is
_DARK_MINUTES = 30.0
_SLIPS = 0.06
_CONTROLS = (
    ("hours", "Hours its tubes have burned", 0.0, 40000.0, 100.0),
    ("lux", "Illuminance with new tubes, lx", 50.0, 6000.0, 10.0),
    ("window", "Daylight beside it, lx", 0.0, 4000.0, 10.0),
)


class StandinLightMeter:
    """Held under a simulated booth by hand, with the slips that hands make."""

    name = "stand-in light meter LM-0340"

    def __init__(self, connection: Connection, slips: float = _SLIPS) -> None:
        self.dark_minutes: float | None = _DARK_MINUTES
        self._state = connection.state
        self._slips = slips

    def booth(self, place: str) -> Booth:
        """The booth of a place as it stands; every place has one."""
        return Booth(**self._state.get("booths", {}).get(place, {}))

    def zero(self, attempt: int) -> None:
        if self._slip("dark", attempt):
            raise NotReadable("light comes in: put the cap on, then calibrate again")

    def read_light(
        self, place: str, spot: int, attempt: int, minutes_since_dark: float | None
    ) -> LightReading:
        if minutes_since_dark is None or minutes_since_dark > _DARK_MINUTES:
            raise NotReadable("the meter does not know what dark is: put the cap on and calibrate first")
        if self._slip(place, attempt):
            raise NotReadable("the diffuser is not on: the light of one side alone was seen; put it on")
        seed = (zlib.crc32(place.encode()), spot, attempt)
        nm, power = LightMeter().read(self.booth(place).power(spot), seed)
        return LightReading(nm, power)

    def light_controls(self, place: str) -> list[Control]:
        now = self.booth(place)
        return [
            Control(key, label, float(getattr(now, key)), low, high, step)
            for key, label, low, high, step in _CONTROLS
        ]

    def control_light(self, place: str, values: Mapping[str, float]) -> None:
        changed = {c.key: c.value for c in self.light_controls(place)}
        for known in self.light_controls(place):
            value = values.get(known.key, known.value)
            if not (np.isfinite(value) and known.low <= value <= known.high):
                raise BadInput(f"{known.label}: choose from {known.low:g} to {known.high:g}")
            changed[known.key] = float(value)
        self._state.setdefault("booths", {})[place] = changed

    def _slip(self, what: str, attempt: int) -> bool:
        return np.random.default_rng([zlib.crc32(what.encode()), attempt, 9]).random() < self._slips


class LightMeterDriver(Driver):
    """Opens the simulated light meter."""

    key = "standin-light"
    title = "Simulated light meter"
    opens = frozenset({LIGHT})
    simulated = True

    def light_meter(self, connection: Connection) -> LightMeterPort:
        return StandinLightMeter(connection)


driver = LightMeterDriver()
