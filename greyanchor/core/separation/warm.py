"""Compile the loops of separation ahead of their first use: ``python -m greyanchor.core.separation.warm``.

Compiled loops are kept on disk. Without this the first picture of each kind waits some seconds for them.
"""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np

from greyanchor.core.formats import icc
from greyanchor.core.formats.icc import PCS_WHITE, IccProfile
from greyanchor.core.formats.icc_tables import Lut, encode_lut16
from greyanchor.core.separation.conversion import Conversion
from greyanchor.core.separation.default_sources import default_source
from greyanchor.core.separation.halftone.screens import Screen, parse_screen
from greyanchor.core.separation.link import DeviceLink, LinkSettings, ModeInks
from greyanchor.core.separation.resampling import Bands, Enlarged, EnlargedPlanes, Part

Pixels = np.ndarray[Any, Any]
_SCREENS = ("blue-noise", "diffusion", "am:lpi=60", "blue-noise:drops=2")


def _printer(inks: int = 4) -> IccProfile:
    """A printer of the simplest kind, for its shape alone."""
    straight = [np.linspace(0.0, 1.0, 2)]
    random = np.random.default_rng(1)
    into = Lut(straight * 3, random.random((3, 3, 3, inks)), straight * inks)
    out = Lut(straight * inks, random.random((*([2] * inks), 3)), straight * 3)
    tags = {"wtpt": icc.xyz_tag(PCS_WHITE), "desc": icc.description_tag("warm")}
    for i in range(3):
        tags |= {f"B2A{i}": encode_lut16(into), f"A2B{i}": encode_lut16(out)}
    space = "CMYK" if inks == 4 else f"{inks}CLR"
    return IccProfile((2, 4), "prtr", space, "Lab", inks, "", tags)


def _kernels() -> None:
    """The kernel of the smooth residual, which profiles of many inks and of R G B spend their time in."""
    from greyanchor.core.characterization.kernel_loops import mixed

    random = np.random.default_rng(2)
    mixed(random.random((2, 5)), random.random((8, 5)), random.random((8, 3)), 2.0, 20.0, 0.4)


def _rows(pixels: Pixels, first: int, last: int) -> Pixels:
    return pixels[first:last]


def main() -> None:
    """Grey, R G B and C M Y K of 8 and 16 bits to four inks, every screen, and both ways of enlarging."""
    _kernels()
    mode = ModeInks(_printer(), total=3.0)
    settings = LinkSettings(keep_black=True, keep_pure=True)
    for kind, channels in (("grey", 1), ("rgb", 3), ("cmyk", 4)):
        for bits in (np.uint8, np.uint16):
            pixels = np.arange(64 * channels, dtype=bits).reshape(8, 8, channels)
            made = Conversion(DeviceLink(default_source(kind), mode, settings))
            for _ in range(2):
                tones = made.convert(pixels)
            source = Part(Bands(partial(_rows, pixels), 8, 8), 0, 0, 8, 8)
            Enlarged(source, (16, 16), (0, 0, 16, 16)).rows(0, 16)
    amounts = Part(Bands(partial(_rows, tones), 8, 8), 0, 0, 8, 8)
    planes = EnlargedPlanes(amounts, (16, 16), (0, 0, 16, 16)).rows(0, 16)
    for text in _SCREENS:
        Screen(parse_screen(text), 600, 16).packed(planes[0])


if __name__ == "__main__":
    main()
