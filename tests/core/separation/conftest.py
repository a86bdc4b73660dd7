"""Artwork and modes that the tests of separation share."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.formats import icc
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.separation.link import ModeInks


@pytest.fixture(scope="session")
def printer_profile(built: ProfileResult) -> bytes:
    """A C M Y K profile of the stand-in press, version 4."""
    return built.data


@pytest.fixture(scope="session")
def mode(printer_profile: bytes) -> ModeInks:
    """That profile alone."""
    return ModeInks(icc.loads(printer_profile))


@pytest.fixture(scope="session")
def curves() -> CurveSet:
    """Four curves of different bend, each up to a limit of its own."""
    x = np.linspace(0.0, 1.0, INPUTS)
    bends = ((0.71, 1.4), (0.66, 1.6), (0.77, 1.3), (0.80, 1.8))
    return CurveSet(tuple("CMYK"), np.array([limit * x**power for limit, power in bends]))


def hostile(channels: int, seed: int = 3) -> np.ndarray:
    """16-bit pixels (n, channels): every corner, ramps between them, near-neutrals and noise."""
    random = np.random.default_rng(seed)
    corners = np.array(list(np.ndindex(*([2] * channels))), dtype=float)
    t = np.linspace(0.0, 1.0, 257)[:, None]
    edges = [a + t * (b - a) for a in corners for b in corners if np.abs(a - b).sum() == 1]
    grey = t.repeat(channels, axis=1)
    near = np.clip(grey + 0.02 * random.standard_normal(grey.shape), 0.0, 1.0)
    noise = random.random((20000, channels))
    return np.round(np.vstack([corners, *edges, grey, near, noise]) * 65535).astype(np.uint16)


@pytest.fixture
def photo(tmp_path: Path) -> Path:
    """A shaded picture of 400 x 300 pixels at 100 ppi, PNG."""
    y, x = np.mgrid[0:300, 0:400] / 300.0
    shades = np.stack(
        [0.7 * x + 0.1 * np.sin(9 * y), 0.7 * y + 0.2 * x, 0.5 + 0.5 * np.sin(3 * x * y)], axis=-1
    )
    Image.fromarray((shades.clip(0, 1) * 255).astype(np.uint8)).save(tmp_path / "photo.png", dpi=(100, 100))
    return tmp_path / "photo.png"
