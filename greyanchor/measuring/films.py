"""What a film should read before it is read, and that it is read by the light it lets through."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import xyz_to_lab
from greyanchor.core.colour.transmission import film_xyz
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.expectation import Expectation, guess
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.film_screen import SOLID, parse_solid
from greyanchor.measuring.models import SheetPrint

#: density of bare film, of a solid of one full ink, and how much dots usually grow at their border, percent
_FILM, _SOLID, _GROWS = 0.04, 3.6, 0.12


def film_expectation(job: SheetPrint) -> Expectation:
    """Solids as dense as their ink, or dots as large as is usual: a guess that bends to what is read."""
    raw = job.raw_chart.values()
    said = job.chart.patches.meta.get(SOLID, "")
    if said:
        solid = parse_solid(said)
        within = np.array([solid.get(c, 0.0) for c in job.raw_chart.channels])
        lead = int(within.argmax())
        area = np.clip(raw[:, lead] / within[lead], 0.0, 1.0)
        area = np.clip(area + _GROWS * np.sqrt(area * (1.0 - area)), 0.0, 1.0)
        density = -np.log10((1.0 - area) * 10.0**-_FILM + area * 10.0**-_SOLID)
    else:
        density = _FILM + _SOLID * np.minimum(raw[:, 0] + 0.2 * raw[:, 1:].sum(axis=1), 1.2)
    return guess(xyz_to_lab(film_xyz(density)))


def check_light(job: SheetPrint, readings: ReadingSet) -> None:
    """Refuse readings of reflected light for a film, and densities of films for a print."""
    if job.is_film and readings.densities is None:
        raise BadInput(
            "the file holds reflected light; a film is read by the light it lets through: transmission "
            "densities (D_VIS, D_UV)"
        )
    if not job.is_film and readings.densities is not None:
        raise BadInput("the file holds transmission densities of a film; this is a print: read its colours")
