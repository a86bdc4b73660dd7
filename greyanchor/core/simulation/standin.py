"""Printing a chart on the stand-in printer and reading it with the stand-in instrument, in one go."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from greyanchor.core.charts.layout import sheet_places
from greyanchor.core.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.press import SimulatedPress

#: seeds of sheets are kept this far apart, so that no two prints share a sheet
_SHEETS_A_PRINT = 1000


def printed_spectra(
    chart: ReadingSet,
    press: SimulatedPress,
    seed: int,
    age_days: float = 0.0,
    pipeline: Callable[[Array], Array] | None = None,
    condition: str = "M1",
) -> Array:
    """True reflectance (n, 36) of every patch of `chart` as printed; `pipeline` turns device values into raw ones."""
    if chart.channels != tuple("CMYK"):
        raise BadInput(
            f"the stand-in printer prints CMYK charts, not {'+'.join(chart.channels) or 'charts without channels'}"
        )
    raw = chart.values() if pipeline is None else pipeline(chart.values())
    places = sheet_places(chart)
    sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
    out = np.empty((len(chart), 36))
    for sheet in np.unique(sheets):
        members = sheets == sheet
        number = seed * _SHEETS_A_PRINT + int(sheet)
        state = press.sheet(number, age_days)
        out[members] = press.spectra(raw[members], state, places[members], number, condition)
    return out


def print_and_read(
    chart: ReadingSet,
    press: SimulatedPress,
    seed: int = 1,
    reading: int = 1,
    age_days: float = 0.0,
    pipeline: Callable[[Array], Array] | None = None,
    reader: StripReader | None = None,
) -> ReadingSet:
    """`chart` printed and read with a careful hand; `reading` tells passes over the same sheet apart."""
    spectra = printed_spectra(chart, press, seed, age_days, pipeline)
    reader = reader or StripReader()
    return replace(
        chart,
        spectra=reader.measure(spectra, (seed, reading, 17)),
        condition="M1",
        meta={
            **chart.meta,
            "PRINT_CONDITIONS": press.environment.label(),
            "INSTRUMENTATION": f"stand-in strip reader {reader.serial}",
        },
    )
