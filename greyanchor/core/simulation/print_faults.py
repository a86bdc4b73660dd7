"""A whole print as a person sees it: its colours, and the faults that its settings deserve. Some show only
at full width, at the beginning, or after some length.

Faults of too much ink come from `faults.severity`; lines between passes and double edges from how far feed
and alignment are from what this machine needs on this media.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter, zoom

from greyanchor.core.colour.colorimetry import Array, lab_to_srgb, spectra_to_lab
from greyanchor.core.simulation.faults import severity
from greyanchor.core.simulation.machine import Mechanics
from greyanchor.core.simulation.press import SimulatedPress

#: height of the stand-in's head, mm, which passes divide
HEAD_MM = 50.0
#: what one step of a readiness pattern is: % of feed, µm between both directions
_STEPS = {"feed": 0.05, "alignment": 20.0}
#: m after which the wound-up media begins to pull, and how much feed that takes a metre, in misfit
_STEADY_M, _PULL_PER_M = 1.2, 0.12
#: mm of heavy ink across from which media lifts in the middle, and the vacuum, %, that holds it
_LIFTS_MM, _HOLDS = 450.0, 60.0
#: total of inks that is heavy, and mm at the beginning that lay on the heater and are deformed
_HEAVY, _WARM_MM = 1.6, 60.0
#: offset of both directions when alignment is out by three steps and more, mm
_DOUBLE_MM = 0.25


def seen_print(
    press: SimulatedPress,
    raw: Array,
    pixel_mm: float,
    mechanics: Mechanics,
    handling: Mapping[str, float],
    seed: int = 1,
) -> Array:
    """sRGB bytes (rows, columns, 3) of a print.

    Parameters
    ----------
    raw
        Raw amounts of ink (rows, columns, inks), fractions; few different ones, as each is printed once.
    pixel_mm
        Size of a pixel on the print.
    handling
        Values of the handling settings that it was printed with; those that are missing do no harm.
    """
    rows, columns = raw.shape[:2]
    colours, place = _different(raw.reshape(rows * columns, -1))
    place = place.reshape(rows, columns)
    paper = lab_to_srgb(spectra_to_lab(press.spectra(np.zeros((1, raw.shape[2])))))[0]
    seen = np.clip(lab_to_srgb(spectra_to_lab(press.spectra(colours))), 0.0, 1.0)[place]
    bad = {name: values[place] for name, values in severity(press, colours).items()}
    random = np.random.default_rng([seed, 29])
    seen = _doubled(seen, _misfit(mechanics, handling, "alignment"), press, pixel_mm)
    seen = _bled(seen, bad["bleed"], pixel_mm)
    inked = np.clip(np.abs(seen - paper).max(axis=2) * 3.0, 0.0, 1.0)
    mottle = 1.0 - 0.45 * bad["coalescence"] * _grain(random, (rows, columns), 0.7 / pixel_mm)
    seen = paper + (seen - paper) * mottle[..., None]
    fog = 0.34 * bad["haze"]
    seen = seen * (1.0 - fog[..., None]) + 0.78 * fog[..., None]
    y, x = np.mgrid[0:rows, 0:columns] * pixel_mm
    cockled = gaussian_filter(bad["cockling"], 12.0 / pixel_mm)
    seen = seen * (1.0 + 0.22 * cockled * np.sin(2.0 * np.pi * (x / 55.0 + 0.12 * y / 55.0)))[..., None]
    wet = bad["slow drying"] * (_grain(random, (rows, columns), 9.0 / pixel_mm) > 0.9)
    seen = seen + 0.30 * (wet * inked)[..., None]
    seen = _scuffed(seen, bad["scuffing"], paper, random)
    lifted = _lifted(raw.sum(axis=2), pixel_mm, handling)
    seen = _scuffed(seen, lifted, paper, random)
    seen = seen * (1.0 + 0.12 * _deformed(rows, pixel_mm, handling)[:, None] * np.sin(x / 9.0))[..., None]
    line = _lines(rows, press, pixel_mm, mechanics, handling)[:, None, None] * inked[..., None]
    seen = seen + np.where(line > 0.0, line * (paper - seen), line * seen)
    return np.asarray(np.round(np.clip(seen, 0.0, 1.0) * 255.0), dtype=np.uint8)


def _different(raw: Array) -> tuple[Array, npt.NDArray[np.intp]]:
    """Different colours (n, inks) among pixels (m, inks), to a 255th of each ink; which each is."""
    keys = np.zeros(len(raw), dtype=np.uint64)
    for ink in range(raw.shape[1]):
        keys = (keys << np.uint64(8)) | np.round(raw[:, ink] * 255.0).astype(np.uint64)
    _, first, place = np.unique(keys, return_index=True, return_inverse=True)
    return raw[first], place


def _lifted(total: Array, pixel_mm: float, handling: Mapping[str, float]) -> Array:
    """How much the media lifts from the platen (rows, columns), 0..1: in the middle, where heavy ink reaches
    across much of a wide print and the vacuum does not hold it.
    """
    heavy = total >= _HEAVY
    across = gaussian_filter(heavy.sum(axis=1) * pixel_mm, 10.0 / pixel_mm)
    loose = np.clip((_HOLDS - handling.get("vacuum", _HOLDS)) / 40.0, 0.0, 1.0)
    strength = np.clip((across - _LIFTS_MM) / 400.0, 0.0, 1.0) * loose
    columns = total.shape[1]
    middle = np.exp(-(((np.arange(columns) - columns / 2.0) / (0.12 * columns)) ** 2))
    return np.asarray(strength[:, None] * middle[None, :] * heavy)


def _deformed(rows: int, pixel_mm: float, handling: Mapping[str, float]) -> Array:
    """How deformed the media is at the beginning (rows,), 0..1: it lay on the heater before."""
    heat = max(handling.get("heat_before", 0.0), handling.get("heat_on", 0.0))
    strength = np.clip((heat - 40.0) / 25.0, 0.0, 1.0)
    return np.asarray(strength * np.exp(-((np.arange(rows) * pixel_mm / _WARM_MM) ** 2)))


def _misfit(mechanics: Mechanics, handling: Mapping[str, float], key: str) -> float:
    """-1..1: how far a setting is from what the machine needs; 0 where it has no such setting."""
    if key not in handling:
        return 0.0
    return float(mechanics.misfit(key, [handling[key]], _STEPS[key])[0])


def _lines(
    rows: int, press: SimulatedPress, pixel_mm: float, mechanics: Mechanics, handling: Mapping[str, float]
) -> Array:
    """Where the strips of two passes meet (rows,): above 0 they part and bare media shows, below 0 they lie
    over one another.
    """
    off = _misfit(mechanics, handling, "feed")
    # the wound-up media pulls more and more: feed that fitted at first does no longer
    metres = np.maximum(np.arange(rows) * pixel_mm / 1000.0 - _STEADY_M, 0.0)
    off = np.clip(off + _PULL_PER_M * metres, -1.0, 1.0) if "feed" in handling else off
    advance = max(HEAD_MM / press.environment.passes, 2.0 * pixel_mm)
    within = (np.arange(rows) * pixel_mm) % advance
    line = np.exp(-0.5 * (within / max(0.35, 0.6 * pixel_mm)) ** 2)
    return 0.35 * off * line * np.sqrt(2.0 / press.environment.passes)


def _doubled(seen: Array, off: float, press: SimulatedPress, pixel_mm: float) -> Array:
    """Strips of one direction moved against those of the other."""
    if press.environment.direction != "both ways" or not off:
        return seen
    shift = off * _DOUBLE_MM / pixel_mm
    whole = int(np.floor(abs(shift)))
    share = abs(shift) - whole
    way = 1 if shift > 0 else -1
    near, far = np.roll(seen, way * whole, axis=1), np.roll(seen, way * (whole + 1), axis=1)
    return np.minimum(seen, (1.0 - share) * near + share * far)


def _bled(seen: Array, bleed: Array, pixel_mm: float) -> Array:
    if not bleed.any():
        return seen
    run = gaussian_filter(seen, (1.2 / pixel_mm, 1.2 / pixel_mm, 0.0))
    share = gaussian_filter(bleed, 0.8 / pixel_mm)[..., None]
    return seen * (1.0 - share) + run * share


def _scuffed(seen: Array, scuffing: Array, paper: Array, random: np.random.Generator) -> Array:
    """Strokes along the carriage, where ink lifts the media to the head."""
    out = seen
    rows = np.flatnonzero(scuffing.max(axis=1) > 0.15)
    for row in random.choice(rows, size=min(len(rows), 14), replace=False) if len(rows) else []:
        hit = np.flatnonzero(scuffing[row] > 0.15)
        first, last = int(hit.min()), int(hit.max()) + 1
        out[row, first:last] = 0.4 * out[row, first:last] + 0.6 * paper
    return out


def _grain(random: np.random.Generator, shape: tuple[int, int], size: float) -> Array:
    """Noise of deviation 1 (rows, columns) with spots of a size in pixels."""
    coarse = max(1.0, size)
    small = random.standard_normal([int(n / coarse) + 3 for n in shape])
    grown = zoom(small, coarse, order=1)[: shape[0], : shape[1]]
    return np.asarray(grown / max(float(grown.std()), 1e-9))
