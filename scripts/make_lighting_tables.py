"""Write greyanchor/core/data/lighting.npz: what judging a viewing light needs beside the tables at 1 nm.

From the tables that colour-science carries: the 10 degree observer of CIE 1964, the test colours of CIE 13.3
and of CIE 224 (ANSI/IES TM-30), and the components of daylight in the ultraviolet.
tests/core/test_lighting.py holds what is computed from them against that library.
"""

from __future__ import annotations

from pathlib import Path

import colour
import numpy as np
from colour.quality.cfi2017 import load_TCS_CIE2017

TARGET = Path(__file__).parent.parent / "greyanchor" / "core" / "data" / "lighting.npz"
NM = np.arange(300, 781)


def main() -> None:
    seen = colour.SpectralShape(380, 780, 1)
    basis = colour.colorimetry.SDS_BASIS_FUNCTIONS_CIE_ILLUMINANT_D_SERIES
    tcs = np.column_stack(
        [sd.copy().align(seen).values for sd in colour.quality.SDS_TCS["CIE 1995"].values()]
    )
    np.savez_compressed(
        TARGET,
        daylight=np.column_stack([np.interp(NM, basis[s].wavelengths, basis[s].values) for s in basis]),
        observer10=colour.MSDS_CMFS["CIE 1964 10 Degree Standard Observer"].copy().align(seen).values,
        tcs=tcs.astype(np.float32),
        ces=load_TCS_CIE2017(seen).values.astype(np.float32),
    )


if __name__ == "__main__":
    main()
