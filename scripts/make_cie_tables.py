"""Write greyanchor/core/data/cie_1nm.csv from the tables that colour-science carries.

The application reads the small table instead of importing the whole library at start;
tests/core/test_colorimetry.py holds one against the other.
"""

from __future__ import annotations

import csv
from pathlib import Path

import colour
import numpy as np

TARGET = Path(__file__).parent.parent / "greyanchor" / "core" / "data" / "cie_1nm.csv"
LIGHTS = {
    "A": "A",
    "F2": "FL2",
    "F7": "FL7",
    "F11": "FL11",
    "LED-B1": "LED-B1",
    "LED-B2": "LED-B2",
    "LED-B3": "LED-B3",
    "LED-B4": "LED-B4",
    "LED-B5": "LED-B5",
}


def main() -> None:
    shape = colour.SpectralShape(360, 780, 1)
    wavelengths = shape.wavelengths
    cmfs = colour.MSDS_CMFS["CIE 1931 2 Degree Standard Observer"].copy().align(shape).values
    basis = colour.colorimetry.SDS_BASIS_FUNCTIONS_CIE_ILLUMINANT_D_SERIES
    daylight = np.column_stack(
        [np.interp(wavelengths, basis[s].wavelengths, basis[s].values) for s in ("S0", "S1", "S2")]
    )
    columns = [wavelengths[:, None], cmfs, daylight]
    for name in LIGHTS.values():
        light = colour.SDS_ILLUMINANTS[name]
        columns.append(np.interp(wavelengths, light.wavelengths, light.values)[:, None])
    table = np.hstack(columns)
    with TARGET.open("w", newline="") as stream:
        writer = csv.writer(stream, lineterminator="\n")
        writer.writerow(["nm", "x", "y", "z", "S0", "S1", "S2", *LIGHTS])
        for row in table:
            writer.writerow([int(row[0]), *(f"{value:.8g}" for value in row[1:])])


if __name__ == "__main__":
    main()
