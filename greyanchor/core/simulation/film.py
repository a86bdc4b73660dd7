"""Clear film printed with ink, as a densitometer sees it by the light that comes through.

A solid stops light by what its inks absorb, and lets some through where drops leave holes; past what the film
holds, ink runs together and the solid becomes thin in places. Dots of a screen grow at their borders.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from greyanchor.core.charts.layout import sheet_places
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.film_screen import CLUSTERED, FilmScreen
from greyanchor.core.simulation.standin import Condition

#: density, visual and UV, of one nominal volume of each ink
_STOPS = {"C": (0.55, 0.42), "M": (0.62, 0.50), "Y": (0.12, 1.35), "K": (3.75, 3.4)}
_SHEETS_A_PRINT = 1000


@dataclass(frozen=True)
class ClearFilm:
    """A film.

    Attributes
    ----------
    name
        As environments call it.
    base
        Density of bare film, visual and UV.
    spread
        By how many µm a dot grows at its border, at eight passes.
    capacity
        Volume of all inks together, relative to nominal full, that it holds.
    grain
        Relative unevenness of the ink.
    """

    name: str = "Clearwater Film 125"
    base: tuple[float, float] = (0.035, 0.055)
    spread: float = 13.0
    capacity: float = 2.1
    grain: float = 0.004


FILMS = {f.name: f for f in (ClearFilm(), ClearFilm("Glasswort Film 100", (0.04, 0.09), 19.0, 1.15, 0.007))}


def film_named(name: str) -> ClearFilm | None:
    """The film that a media is; None for one that is none."""
    return FILMS.get(name)


@dataclass(frozen=True)
class FilmPress:
    """A stand-in printer with film in it."""

    film: ClearFilm
    environment: PrintEnvironment
    overdrive: float = 1.3

    def densities(
        self,
        chart: ReadingSet,
        seed: int,
        state: Condition = Condition(),
        solid: Mapping[str, float] | None = None,
    ) -> Array:
        """True transmission densities (n, 2), visual and UV, of every patch of a chart of raw values.

        With `solid`, raw values are dots that hold so much of each ink; without it each patch is a solid.
        """
        foreign = [c for c in chart.channels if c not in _STOPS]
        if foreign:
            raise BadInput(f"the stand-in printer has no {foreign[0]}; on film it prints {', '.join(_STOPS)}")
        raw = np.clip(chart.values(), 0.0, 1.0)
        if solid:
            within = np.array([solid.get(c, 0.0) for c in chart.channels])
            lead = int(within.argmax())
            areas = np.clip(raw[:, lead] / within[lead], 0.0, 1.0)
            inked = np.where(areas[:, None] > 0.0, within[None], 0.0)
        else:
            areas = (raw.max(axis=1) > 0.0).astype(float)
            inked = raw
        volume = inked * self.overdrive * state.volumes(chart.channels)
        volume = volume * self._unevenness(chart, seed)
        through = self._solids(volume, chart.channels)
        bare = 10.0 ** -np.array(self.film.base)
        grown = self._grown(areas, volume.sum(axis=1))[:, None]
        # where the screen is coarse a border is half open: light passes there in part
        return np.asarray(-np.log10((1.0 - grown) * bare + grown * through))

    def _unevenness(self, chart: ReadingSet, seed: int) -> Array:
        sheets = chart.sheets if chart.sheets is not None else np.ones(len(chart), dtype=np.int64)
        out = np.ones((len(chart), len(chart.channels)))
        for sheet in np.unique(sheets):
            mine = sheets == sheet
            random = np.random.default_rng([seed * _SHEETS_A_PRINT + int(sheet), 23])
            slope = 0.002 * random.standard_normal((2, len(chart.channels)))
            level = 1.0 + 0.002 * random.standard_normal(len(chart.channels))
            places = sheet_places(chart)[mine]
            noise = self.film.grain * random.standard_normal((int(mine.sum()), len(chart.channels)))
            out[mine] = level * (1.0 + places @ slope) * (1.0 + noise)
        return out

    def _solids(self, volume: Array, channels: tuple[str, ...]) -> Array:
        """Share of light (n, 2) that solids let through."""
        stops = np.array([_STOPS[c] for c in channels])
        total = volume.sum(axis=1, keepdims=True)
        over = np.maximum(total - self.film.capacity, 0.0)
        # deeper ink works less, and what runs together leaves thin places
        works = volume * (1.0 - 0.09 * np.minimum(total, self.film.capacity)) / (1.0 + 0.5 * over)
        density = works @ stops
        covered = 1.0 - np.exp(-4.2 * total - 3.5 * total**2)
        bare = 10.0 ** -np.array(self.film.base)
        return np.asarray(bare * ((1.0 - covered) * 1.0 + covered * 10.0**-density))

    def _grown(self, areas: Array, volume: Array) -> Array:
        """Areas (n,) after dots have grown at their borders, by the screen that the environment has."""
        screen = FilmScreen.of(self.environment.screen or "blue-noise")
        lines = (
            screen.lines if screen.kind in CLUSTERED else self.environment.resolution / (3 * screen.smallest)
        )
        cells_a_mm = lines / 25.4
        hurry = np.log2(8.0 / self.environment.passes)
        micrometres = self.film.spread * (1.0 + 0.06 * hurry) * np.maximum(volume, 0.05) ** 0.5
        border = 2.0 * np.sqrt(np.pi * areas * (1.0 - areas)) * (1.12 if screen.dot == "line" else 1.0)
        grown = areas + micrometres / 1000.0 * cells_a_mm * border * (1.0 - 0.35 * (areas - 0.5))
        return np.where(areas <= 0.0, 0.0, np.where(areas >= 1.0, 1.0, np.clip(grown, 0.0, 1.0)))


def read_film(densities: Array, seed: tuple[int, ...], noise: float = 1.0) -> Array:
    """What a transmission densitometer says of densities (n, 2): scatter that grows with density."""
    random = np.random.default_rng(list(seed))
    scatter = 0.0018 + 0.0022 * densities + 0.0010 * densities**2
    return np.round(densities + noise * scatter * random.standard_normal(densities.shape), 3)
