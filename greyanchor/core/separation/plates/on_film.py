"""Plates as a printer prints them on film: every dot of a plate holds as much of each ink as the film mode
has found to be opaque.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.halftone import blue_noise
from greyanchor.core.separation.plane_reading import PlaneReader
from greyanchor.core.separation.prepare import Progress, peak_mb, quiet

Rows = np.ndarray[Any, Any]
_BAND_DOTS = 16_000_000
#: a plate is of the resolution asked for when it is this near (share)
_SAME = 1e-3
_FULL = 65536


@dataclass(frozen=True)
class FilmPrinted:
    """A plate as a print file.

    Attributes
    ----------
    path
        The print file.
    width, height, resolution
        Columns, rows, dots an inch.
    ink_ml
        Liquid ink by plane.
    seconds
        What it took.
    """

    path: Path
    width: int
    height: int
    resolution: float
    ink_ml: Mapping[str, float]
    seconds: float

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON, as those of other print files; colours it has none."""
        return {
            "width": self.width,
            "height": self.height,
            "resolution": round(self.resolution, 3),
            "inks": list(self.ink_ml),
            "ink_ml": {c: round(v, 4) for c, v in self.ink_ml.items()},
            "seconds": round(self.seconds, 3),
            "peak_mb": round(peak_mb(), 1),
            "megapixels_per_second": round(self.width * self.height / max(self.seconds, 1e-9) / 1e6, 3),
            "notes": [],
        }


def film_planes(
    plate: str | Path,
    solid: Mapping[str, float],
    resolution: float,
    output: str | Path,
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
    resume: bool = False,
) -> FilmPrinted:
    """Write a plate as planes of inks, 1 bit each.

    `solid` is how much of each ink its dots hold, fractions. Places that a dot leaves out to hold less are
    spread by blue noise, each ink's by its own. `report` and `resume` as those of `prepare_planes`.

    Raises `BadInput`, naming the file, for what is no plate of ours, or has another resolution.
    """
    began = time.perf_counter()
    reader = PlaneReader(plate)
    if reader.bits != 1 or len(reader.inks) != 1:
        raise BadInput("films are printed from plates: one ink, one bit", Path(plate).name)
    if abs(reader.resolution / resolution - 1.0) > _SAME:
        raise BadInput(
            f"the plate was made for {reader.resolution:g} dpi, the film mode prints {resolution:g}: make it "
            "again for this mode",
            Path(plate).name,
        )
    inks = tuple(solid)
    layout = PlaneLayout(reader.width, reader.height, inks, 1, resolution)
    rows = max(8, _BAND_DOTS // reader.width // 8 * 8)
    writer = PlaneWriter(
        output, layout, rows, {"screen": "plate", "inks": list(inks), **(ticket or {})}, resume
    )
    masks = [_mask(place, amount, layout.row_bytes) for place, amount in enumerate(solid.values())]
    counts = np.array(writer.state.get("dots", [0] * len(inks)), dtype=np.int64)
    try:
        for top in range(writer.next_row, reader.height, rows):
            last = min(top + rows, reader.height)
            plane = reader.rows(0, top, last)
            made = [plane & mask[np.arange(top, last) % len(mask)] for mask in masks]
            counts += [int(np.bitwise_count(m).sum()) for m in made]
            writer.write(made, {"dots": counts.tolist()})
            report(last / reader.height)
        each = LOAD_AT_FULL * (0.0254 / resolution) ** 2
        ink_ml = {c: float(n) * each for c, n in zip(inks, counts)}
        done = writer.close({"ink_ml": {c: round(v, 4) for c, v in ink_ml.items()}})
    except ValueError:
        writer.abandon()
        raise
    except BaseException:
        writer.stop()
        raise
    return FilmPrinted(done, reader.width, reader.height, resolution, ink_ml, time.perf_counter() - began)


def _mask(place: int, amount: float, row_bytes: int) -> Rows:
    """Packed rows (256, row_bytes) of places that hold ink, for a share of them."""
    on = blue_noise.mask(place).astype(np.int64) < round(amount * _FULL)
    packed = np.packbits(on, axis=1)
    return np.tile(packed, (1, -(-row_bytes // packed.shape[1])))[:, :row_bytes]
