"""From separations to films: curves, traps, screens and marks, one 1-bit file a plate."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.artwork.page_plates import safe_name
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.halftone.clustered import Lattice
from greyanchor.core.separation.halftone.rosettes import Asked, lattices
from greyanchor.core.separation.halftone.screens import Screen, ScreenSpec
from greyanchor.core.separation.plates.angles import beat_words
from greyanchor.core.separation.plates.films import Film, FilmMarks
from greyanchor.core.separation.plates.separations import Separations
from greyanchor.core.separation.plates.trapping import Trap, Trapped
from greyanchor.core.separation.prepare import Progress, peak_mb, quiet

Pixels = np.ndarray[Any, Any]
_BAND_DOTS = 8_000_000
_CLUSTERED = ("am", "hybrid")


@dataclass(frozen=True)
class PlateSettings:
    """How plates are made.

    Attributes
    ----------
    resolution
        Dots an inch.
    screens
        By ink, each at its own angle.
    curves
        By ink, for each tone of 16 bits the one that is screened (65536,): the press's curve, then the
        film's. Straight where there is none.
    film_curve
        The film's alone, for the step wedge, whose steps are dots on film.
    trap
        How plates meet.
    negative
        Ink where there is none.
    mirrored
        Emulsion down: read right through the film.
    words
        What is printed on every film beside its plate's name; None for plates without marks.
    order
        Inks in the order that they are printed in; as they come where empty.
    apart
        Pairs of inks that never print together, so that it does not matter whether their screens beat.
    """

    resolution: float
    screens: Mapping[str, ScreenSpec]
    curves: Mapping[str, Pixels] = field(default_factory=dict)
    film_curve: Pixels | None = None
    trap: Trap = Trap()
    negative: bool = False
    mirrored: bool = False
    words: str | None = None
    order: tuple[str, ...] = ()
    apart: frozenset[frozenset[str]] = frozenset()


@dataclass(frozen=True)
class Plate:
    """A plate that was made.

    Attributes
    ----------
    ink, path
        Its name and file.
    width, height
        Columns and rows.
    screen
        As it was asked for.
    frequency, angle
        What it really has, lines an inch and degrees; None for a screen without.
    share
        Of the art's area that is ink, before curves.
    """

    ink: str
    path: Path
    width: int
    height: int
    screen: ScreenSpec
    frequency: float | None
    angle: float | None
    share: float

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON; shares in percent."""
        return {
            "ink": self.ink,
            "file": self.path.name,
            "width": self.width,
            "height": self.height,
            "screen": str(self.screen),
            "frequency": None if self.frequency is None else round(self.frequency, 3),
            "angle": None if self.angle is None else round(self.angle, 3),
            "ink_percent": round(100.0 * self.share, 3),
        }


@dataclass(frozen=True)
class PlateSet:
    """Plates of one page; `empty` are inks that it has nothing of, `warnings` what beats, in words."""

    plates: tuple[Plate, ...]
    empty: tuple[str, ...]
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    seconds: float

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "plates": [p.facts() for p in self.plates],
            "empty": list(self.empty),
            "warnings": list(self.warnings),
            "notes": list(self.notes),
            "seconds": round(self.seconds, 2),
            "peak_mb": round(peak_mb(), 1),
        }


def lattices_of(screens: Mapping[str, ScreenSpec], resolution: float) -> dict[str, Lattice]:
    """Supercells of the clustered screens of a set, in step with one another."""
    inks = [i for i, s in screens.items() if s.kind in _CLUSTERED]
    made = lattices([Asked(screens[i].lines, screens[i].angle) for i in inks], resolution)
    return dict(zip(inks, made))


def warnings_of(
    screens: Mapping[str, ScreenSpec],
    resolution: float,
    apart: frozenset[frozenset[str]] = frozenset(),
) -> list[str]:
    """What is to be known of a set of screens before it is made; pairs of inks that are `apart` may beat."""
    made = lattices_of(screens, resolution)
    return beat_words(list(made), list(made.values()), resolution, apart)


def make_plates(
    found: Separations,
    settings: PlateSettings,
    folder: str | Path,
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
) -> PlateSet:
    """Write a 1-bit TIFF of each plate into `folder`, all of them or none; 1 is ink.

    Plates that turn out to be empty are left out, unless the art says that it has them. `report` hears the
    share that is done and may raise to stop.

    Raises `BadInput` where there is nothing to print, or a screen is missing.
    """
    began = time.perf_counter()
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    work = _Work(found, settings)
    writers = work.writers(folder, ticket or {})
    height = work.film.height if work.film else work.art[1]
    try:
        for top in range(0, height, work.rows):
            last = min(top + work.rows, height)
            for writer, rows in zip(writers, work.band(top, last)):
                writer.write([rows])
            report(last / height)
        shares = work.inked / (65535.0 * work.art[0] * work.art[1])
        kept = [i for i, ink in enumerate(found.inks) if found.kept or shares[i] > 0.0]
        if not kept:
            raise BadInput("the page is empty: there is nothing to make plates of")
        order = {ink: i for i, ink in enumerate(settings.order)}
        kept.sort(key=lambda i: order.get(found.inks[i], len(order)))
        plates = []
        for i in kept:
            path = writers[i].close({"ink_percent": round(100.0 * float(shares[i]), 4)})
            plates.append(work.plate(i, path, float(shares[i])))
    finally:
        for writer in writers:
            writer.abandon()
    empty = (*found.absent, *(ink for i, ink in enumerate(found.inks) if i not in kept))
    screens = {p.ink: p.screen for p in plates}
    warnings = warnings_of(screens, settings.resolution, settings.apart)
    seconds = time.perf_counter() - began
    return PlateSet(tuple(plates), empty, tuple(warnings), found.notes, seconds)


class _Work:
    """The plates of a page while they are made."""

    def __init__(self, found: Separations, settings: PlateSettings) -> None:
        self._found, self._settings = found, settings
        missing = [i for i in found.inks if i not in settings.screens]
        if missing:
            raise BadInput(f"there is no screen for the plate of {missing[0]}")
        self.art = found.frame.window[2], found.frame.window[3]
        self.film = Film(self.art, settings.resolution) if settings.words is not None else None
        width = self.film.width if self.film else self.art[0]
        self.size = width, self.film.height if self.film else self.art[1]
        self.rows = max(8, _BAND_DOTS // (width * len(found.inks)) // 8 * 8)
        self._lattices = lattices_of({i: settings.screens[i] for i in found.inks}, settings.resolution)
        self._screens = [
            Screen(settings.screens[ink], settings.resolution, width, i, lattice=self._lattices.get(ink))
            for i, ink in enumerate(found.inks)
        ]
        self._planes = found.planes
        if settings.trap:
            self._planes = Trapped(found.planes, found.inks, self.art[1], settings.trap, settings.resolution)
        self.inked = np.zeros(len(found.inks))
        self._wedge = self.film.wedge() if self.film else None

    def writers(self, folder: Path, ticket: Mapping[str, Any]) -> list[PlaneWriter]:
        """One file a plate."""
        names = file_names(self._found.inks)
        out = []
        for ink, name, screen in zip(self._found.inks, names, self._screens):
            layout = PlaneLayout(*self.size, (ink,), 1, self._settings.resolution)
            facts = {"ink": ink, "screen": str(screen.spec), "negative": self._settings.negative}
            facts |= {"mirrored": self._settings.mirrored, **ticket}
            out.append(PlaneWriter(folder / f"{name}.tif", layout, self.rows, facts))
        return out

    def plate(self, place: int, path: Path, share: float) -> Plate:
        """What was made of an ink."""
        ink = self._found.inks[place]
        made = self._lattices.get(ink)
        spec = self._settings.screens[ink]
        frequency, angle = (made.frequency, made.angle) if made else (None, None)
        return Plate(ink, path, *self.size, spec, frequency, angle, share)

    def band(self, top: int, last: int) -> list[Pixels]:
        """Packed rows of every plate."""
        tones = self._art_rows(top, last)
        return each(lambda i: self._finished(i, tones, top, last), range(len(self._found.inks)))

    def _art_rows(self, top: int, last: int) -> Pixels | None:
        edge = self.film.margin if self.film else 0
        first, end = max(top - edge, 0), min(last - edge, self.art[1])
        if end <= first:
            return None
        return self._planes(first, end)

    def _finished(self, place: int, art: Pixels | None, top: int, last: int) -> Pixels:
        ink, settings = self._found.inks[place], self._settings
        rows = None
        if art is not None:
            rows = art[place]
            self.inked[place] += float(rows.sum(dtype=np.uint64))
            curve = settings.curves.get(ink)
            rows = rows if curve is None else curve[rows]
        tones = rows if self.film is None else self._on_film(rows, top, last)
        assert tones is not None
        packed = self._screens[place].packed(np.ascontiguousarray(tones), top)
        if self.film is None and not settings.negative and not settings.mirrored:
            return packed
        width = self.size[0]
        dots = np.unpackbits(packed, axis=1, count=width).view(bool)
        if self.film is not None:
            dots |= self.film.marks(self._words(place), top, last)
        if settings.negative:
            dots = ~dots
        if settings.mirrored:
            dots = dots[:, ::-1]
        return np.packbits(dots, axis=1)

    def _on_film(self, rows: Pixels | None, top: int, last: int) -> Pixels:
        """Rows with bare film around the art, and the wedge."""
        assert self.film is not None and self._wedge is not None
        out = np.zeros((last - top, self.film.width), dtype=np.uint16)
        edge = self.film.margin
        if rows is not None:
            first = max(top - edge, 0) + edge - top
            out[first : first + len(rows), edge : edge + self.art[0]] = rows
        left, y, tones = self._wedge
        if self._settings.film_curve is not None:
            tones = self._settings.film_curve[tones]
        a, b = max(y, top), min(y + len(tones), last)
        if b > a:
            out[a - top : b - top, left : left + tones.shape[1]] = tones[a - y : b - y]
        return out

    def _words(self, place: int) -> str:
        ink, spec = self._found.inks[place], self._settings.screens[self._found.inks[place]]
        made = self._lattices.get(ink)
        said = f"{made.frequency:.4g} lines {made.angle:.4g}° {spec.dot}" if made else str(spec)
        return FilmMarks(f"{ink}  {said}", self._settings.words or "").lines


def file_names(inks: Sequence[str]) -> list[str]:
    """Names of files for inks, none twice."""
    out: list[str] = []
    for ink in inks:
        name = base = safe_name(ink)
        number = 2
        while name.casefold() in (n.casefold() for n in out):
            name, number = f"{base} {number}", number + 1
        out.append(name)
    return out
