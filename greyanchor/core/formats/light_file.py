"""A light as measured in the room: two columns, wavelength in nm and power, a line each.

The power is relative, or in W/m2/nm where a line above the numbers says so (mW and µW are known as well).
"""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from greyanchor.core.colour.illuminants import MeasuredLight
from greyanchor.core.colour.lighting import NM, LightSpectrum
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.formats.files import read_limited

_MAX_BYTES = 1024 * 1024
_SEPARATORS = re.compile(r"[;\t ]+")
#: W/m2/nm as people write it: W/m²/nm, W·m-2·nm-1, mW m^-2 nm^-1
_ABSOLUTE = re.compile(r"(?P<scale>[mµμu]?)W[ ./·*]*m\^?(?:[-−⁻]?[2²])[ ./·*]*n?m", re.IGNORECASE)
_SCALES = {"": 1.0, "m": 1e-3, "µ": 1e-6, "μ": 1e-6, "u": 1e-6}


def read(path: str | Path) -> MeasuredLight:
    """Read a light from a file; errors name file and line."""
    return loads(read_limited(path, _MAX_BYTES), Path(path).name)


def loads(data: bytes, source: str = "light") -> MeasuredLight:
    """Parse a light that colours are reported under; see `loads_spectrum`."""
    return loads_spectrum(data, source).measured


def read_spectrum(path: str | Path) -> LightSpectrum:
    """Read a light with all its wavelengths and its scale; errors name file and line."""
    return loads_spectrum(read_limited(path, _MAX_BYTES), Path(path).name)


def loads_spectrum(data: bytes, source: str = "light") -> LightSpectrum:
    """Parse a light: comma, semicolon, tab or blanks between the columns, headings and ``#`` lines left
    out.

    Raises `BadInput` that names `source` and line.
    """
    try:
        text = cgats.decode(data)
        rows = _rows(text)
        if not rows:
            raise BadInput("no wavelengths with a power were found: two numbers a line are needed")
        values = np.array(rows)
        unit = _unit(text)
        return LightSpectrum.of(
            Path(source).stem, values[:, 0], values[:, 1] * (unit or 1.0), unit is not None
        )
    except BadInput as error:
        raise error.at(source) from None


def dumps(light: LightSpectrum) -> bytes:
    """The file of a light, from the lowest wavelength that was measured on; `loads_spectrum` reads it."""
    unit = "W/m2/nm" if light.is_absolute else "relative power"
    lines = [f"nm,{unit}"]
    lines += [f"{nm},{power:.8g}" for nm, power in zip(NM, light.power) if nm >= light.first]
    return ("\n".join(lines) + "\n").encode()


def _unit(text: str) -> float | None:
    """What one of the file's units is in W/m2/nm; None where no heading says."""
    for line in text.splitlines():
        if found := _ABSOLUTE.search(line):
            return _SCALES[found.group("scale").lower()]
        bare = line.split("#")[0].strip()
        if bare and bare[0].isdigit():
            return None
    return None


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
