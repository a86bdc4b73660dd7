"""A light as measured in the room: two columns, wavelength in nm and relative power, a line each."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from greyanchor.core.colour.illuminants import MeasuredLight
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.formats.files import read_limited

_MAX_BYTES = 1024 * 1024
_SEPARATORS = re.compile(r"[;\t ]+")


def read(path: str | Path) -> MeasuredLight:
    """Read a light from a file; errors name file and line."""
    return loads(read_limited(path, _MAX_BYTES), Path(path).name)


def loads(data: bytes, source: str = "light") -> MeasuredLight:
    """Parse a light: comma, semicolon, tab or blanks between the columns, headings and ``#`` lines left
    out.

    Raises `BadInput` that names `source` and line.
    """
    try:
        rows = _rows(cgats.decode(data))
        if not rows:
            raise BadInput("no wavelengths with a power were found: two numbers a line are needed")
        values = np.array(rows)
        return MeasuredLight.of(Path(source).stem, values[:, 0], values[:, 1])
    except BadInput as error:
        raise error.at(source) from None


def _rows(text: str) -> list[tuple[float, float]]:
    rows: list[tuple[float, float]] = []
    for number, line in enumerate(text.splitlines(), start=1):
        bare = line.split("#")[0].strip()
        if not bare:
            continue
        parts = [p for p in _SEPARATORS.split(bare) if p]
        if len(parts) == 1:
            parts = bare.split(",")
        try:
            first, second = (float(p.strip().strip(",").replace(",", ".")) for p in parts[:2])
        except ValueError:
            if rows:
                raise BadInput(f"{bare[:40]!r} is not a wavelength and a power", line=number) from None
            continue  # a heading
        rows.append((first, second))
    return rows
