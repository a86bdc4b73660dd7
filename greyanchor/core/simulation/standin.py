"""Printing a chart on the stand-in printer and reading it with the stand-in instrument, in one go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.charts.layout import sheet_places
from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.instrument import Spectrophotometer, Spot, StripReader
from greyanchor.core.simulation.press import WHITE, SimulatedPress

#: seeds of sheets are kept this far apart, so that no two prints share a sheet
_SHEETS_A_PRINT = 1000


@dataclass(frozen=True)
class Condition:
    """How the stand-in printer and its sheet are when something is looked at.

    Attributes
    ----------
    age_days
        Days since the machine was calibrated.
    drift
        Ink volume of each channel relative to that day, such as ``(("C", 1.1),)``.
    wet
        How much of the drying is still to come, 0..1.
    paper
        Lab by which the media of this delivery differs from the first, as a change of L*, a*, b*.
    """

    age_days: float = 0.0
    drift: tuple[tuple[str, float], ...] = ()
    wet: float = 0.0
    paper: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def volumes(self, inks: tuple[str, ...] = tuple("CMYK")) -> Array:
        """Factors (inks,) on the volumes of inks."""
        facts = dict(self.drift)
        return np.array([facts.get(c, 1.0) for c in inks])


def printed_spectra(
    chart: ReadingSet,
    press: SimulatedPress,
    seed: int,
    state: Condition = Condition(),
    pipeline: Callable[[Array], Array] | None = None,
    condition: str = "M1",
) -> Array:
    """True reflectance (n, 36) of every patch of `chart` as printed; `pipeline` turns device values into raw
    ones.
    """
    if pipeline is None:
        over = WHITE in chart.channels[1:]  # white is printed when its turn comes
        press = replace(press, white_over=over) if over else press
        raw = press.as_raw(chart.values(), chart.channels)
    else:
        raw = pipeline(chart.values())
    places = sheet_places(chart)
    sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
    out = np.empty((len(chart), 36))
    for sheet in np.unique(sheets):
        members = sheets == sheet
        number = seed * _SHEETS_A_PRINT + int(sheet)
        machine = press.sheet(number, state.age_days, state.volumes(press.channels[: press.inks]), state.wet)
        out[members] = press.spectra(raw[members], machine, places[members], number, condition)
    return out * _other_paper(state.paper)


def _other_paper(change: tuple[float, float, float]) -> Array:
    """Factors (36,) that shift white paper by about `change` in Lab: lightness, and a slope for warmth."""
    if not any(change):
        return np.ones(36)
    x = (WAVELENGTHS - 560.0) / 120.0
    return np.asarray(1.0 + 0.025 * change[0] + 0.009 * change[1] * (x**2 - 0.6) + 0.011 * change[2] * x)


def reading_spot(press: SimulatedPress, dots: int = 1) -> Spot:
    """What one reading catches of the grain of this print."""
    return Spot(2.0 * max(0.0, press.grain - 0.0065), dots)


def print_and_read(
    chart: ReadingSet,
    press: SimulatedPress,
    seed: int = 1,
    reading: int = 1,
    state: Condition = Condition(),
    pipeline: Callable[[Array], Array] | None = None,
    reader: Spectrophotometer | None = None,
    condition: str = "M1",
) -> ReadingSet:
    """`chart` printed and read with a careful hand; `reading` distinguishes passes over the same sheet.

    `pipeline` maps device values (n, channels) to raw values (n, sent), fractions; without one the chart
    is raw. The readings hold spectra (n, 36).
    """
    spectra = printed_spectra(chart, press, seed, state, pipeline, condition)
    reader = reader or StripReader()
    dots = chart.meta.get("READINGS_A_PATCH", "1")
    spot = reading_spot(press, int(dots) if dots.isdecimal() else 1)
    return replace(
        chart,
        spectra=reader.measure(spectra, (seed, reading, 17), spot),
        condition=condition,
        meta={
            **chart.meta,
            "PRINT_CONDITIONS": press.environment.label(),
            "INSTRUMENTATION": f"stand-in strip reader {reader.serial}",
        },
    )
