"""Printers that take R, G and B: what their own driver does with them, and curves in front of it.

Nothing is known of the inks behind such a driver. Its range is judged along ramps of R, G and B: where the
ends print alike it clips, where lightness runs the wrong way it turns back. Curves in front of it make the
greys even or neutral; the same curves, moved, bring a machine back to its baseline.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.ndimage import uniform_filter1d
from scipy.optimize import isotonic_regression

from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.ramps import Ramp
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.colour.density import peak_band, peak_density, visual_density
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, as_inks, is_additive
from greyanchor.core.measurement.sequences import sobol

RGB = ("R", "G", "B")
STRAIGHT, EVEN, NEUTRAL = "straight", "even", "neutral"
#: what curves in front of the driver are made to do
TONES = {
    STRAIGHT: "as the driver prints",
    EVEN: "even lightness along the greys",
    NEUTRAL: "even and neutral greys",
}
_GREYS = np.linspace(0.0, 1.0, 25)
_BESIDE = (0.12, 0.25, 0.38, 0.5, 0.62, 0.75, 0.88)
_STEPS = np.linspace(0.0, 1.0, 17)
#: colours of an end that lie within this of one another print alike, dE00, over this share of the range
ALIKE, LEAST_CLIPPED = 0.6, 0.09
#: lightness that runs the wrong way by this much turns back, L*
TURNED = 0.7
#: largest mean weighted deviation of lightness (percent of the range) that counts as even
EVEN_WITHIN = 1.5
_KNOTS = np.array([0.0, 0.08, 0.18, 0.3, 0.45, 0.6, 0.75, 0.88, 1.0])
#: how firmly the bend of a correction, and its size, are held back, Lab
_STIFF, _HELD = 6.0, 1.0


def driver_chart(fill: int = 48) -> Array:
    """R, G and B (n, 3) that show a driver's range and greys: white six times, greys with their neighbours,
    ramps from white to C, M and Y and from black to R, G and B, and an even fill of `fill` colours.
    """
    rows = [np.ones((6, 3)), np.repeat(_GREYS[:-1, None], 3, axis=1)]
    for i in range(3):
        falling = np.ones((len(_STEPS) - 1, 3))
        falling[:, i] = _STEPS[:-1]
        rising = np.zeros((len(_STEPS) - 1, 3))
        rising[:, i] = _STEPS[1:]
        rows += [falling, rising]
    for level in _BESIDE:
        width = 0.04 + 0.08 * min(level, 1.0 - level)
        for i in range(3):
            for way in (-width, width):
                beside = np.full(3, level)
                beside[i] += way
                rows.append(beside[None])
    rows.append(sobol(3, int(np.ceil(np.log2(max(fill, 2)))), 4)[:fill])
    return np.round(np.clip(np.vstack(rows), 0.0, 1.0), 4)


def short_driver_chart() -> Array:
    """The short chart of such a printer (n, 3): white, greys twice, ramps, overprints and an even fill. It
    confirms curves, and holds the machine to the day they were accepted.
    """
    greys = np.repeat(np.linspace(0.0, 0.95, 12)[:, None], 3, axis=1)
    rows = [np.ones((4, 3)), greys, greys]
    for i in range(3):
        falling = np.ones((10, 3))
        falling[:, i] = np.linspace(0.0, 0.9, 10)
        rising = np.zeros((5, 3))
        rising[:, i] = np.linspace(0.2, 1.0, 5)
        rows += [falling, rising]
    rows.append(0.06 + 0.88 * sobol(3, 5, 9)[:24])
    return np.round(np.vstack(rows), 4)


@dataclass(frozen=True)
class RangeFault:
    """Where a driver's range is lost: `ramp` in words, `kind` clipped or turned, `low` and `high` of the
    inputs (fractions), and `words`.
    """

    ramp: str
    kind: str
    low: float
    high: float
    words: str


@dataclass(frozen=True)
class Driver:
    """A driver as its chart shows it.

    Attributes
    ----------
    greys
        Inputs (n,) of the greys, rising from black, and their Lab (n, 3).
    faults
        Where range is lost.
    uneven
        How far lightness along the greys lies from even, mean and largest, percent of its range.
    cast
        Largest chroma of the greys against the paper's own colour fading to black, between 15 and 85 %.
    model
        What any R, G, B prints.
    """

    greys: tuple[Array, Array]
    faults: tuple[RangeFault, ...]
    uneven: tuple[float, float]
    cast: float
    model: ForwardModel


def read_driver(readings: ReadingSet) -> Driver:
    """What the readings of `driver_chart` say. Raises `BadInput` for readings of other channels, and where
    there are no greys.
    """
    _must_be_rgb(readings)
    device, lab = readings.values(), readings.lab()
    inputs, greys = _means(device, lab, np.ptp(device, axis=1) < 1e-6)
    if len(inputs) < 8 or inputs[-1] < 1.0 or inputs[0] > 0.0:
        raise BadInput(f"the readings have {len(inputs)} greys from black to white; 8 are needed")
    even, off = _evenness(inputs, greys)
    faults = [f for name, x, y in _ramps(device, lab) for f in _faults(name, x, y)]
    return Driver((inputs, greys), tuple(faults), (even, off), _cast(inputs, greys), characterize(readings))


def predicted(readings: ReadingSet, rgb: Array) -> Array:
    """Lab (n, 3) that R, G and B (n, 3) will print, by a model of the driver's `readings`."""
    _must_be_rgb(readings)
    return _printed(characterize(readings), rgb)


def evenness_of(readings: ReadingSet) -> tuple[tuple[float, float], float]:
    """How far greys of any chart are from even, mean and largest in percent, and their cast, chroma."""
    _must_be_rgb(readings)
    device = readings.values()
    inputs, greys = _means(device, readings.lab(), np.ptp(device, axis=1) < 1e-6)
    return _evenness(inputs, greys), _cast(inputs, greys)


def _cast(inputs: Array, greys: Array) -> float:
    inner, paper = (inputs > 0.15) & (inputs < 0.85), greys[-1]
    share = (greys[:, 0] - greys[0, 0]) / max(float(paper[0] - greys[0, 0]), 1.0)
    return float(np.hypot(*(greys[:, 1:] - share[:, None] * paper[1:]).T)[inner].max())


def _must_be_rgb(readings: ReadingSet) -> None:
    if not is_additive(readings.channels):
        raise BadInput(
            f"a driver is read by R, G and B, not by {'+'.join(readings.channels) or 'no channels'}"
        )


def _means(device: Array, lab: Array, use: Array) -> tuple[Array, Array]:
    """Rising values (k,) of the last channel that moves and mean Lab (k, 3) of patches that `use` names."""
    moving = int(np.ptp(device[use], axis=0).argmax())
    levels, group = np.unique(np.round(device[use, moving], 4), return_inverse=True)
    total = np.zeros((len(levels), 3))
    np.add.at(total, group, lab[use])
    return levels, total / np.bincount(group)[:, None]


def _ramps(device: Array, lab: Array) -> list[tuple[str, Array, Array]]:
    out = [("the greys", *_means(device, lab, np.ptp(device, axis=1) < 1e-6))]
    for i, name in enumerate(RGB):
        others = np.delete(device, i, axis=1)
        for level, words in ((1.0, f"{name} from white"), (0.0, f"{name} from black")):
            use = np.abs(others - level).max(axis=1) < 1e-6
            if use.sum() >= 5:
                out.append((words, *_means(device, lab, use)))
    return out


def _evenness(inputs: Array, lab: Array) -> tuple[float, float]:
    lightness = lab[:, 0]
    span = max(float(lightness[-1] - lightness[0]), 1.0)
    off = 100.0 * np.abs((lightness - lightness[0]) / span - inputs)
    return float(off.mean()), float(off.max())


def _faults(name: str, inputs: Array, lab: Array) -> list[RangeFault]:
    faults = []
    for end, order in (("low", np.arange(len(inputs))), ("high", np.arange(len(inputs))[::-1])):
        apart = delta_e_2000(lab[order], np.repeat(lab[order[:1]], len(order), axis=0))
        alike = int(np.argmax(apart > ALIKE)) - 1 if (apart > ALIKE).any() else len(order) - 1
        there = float(abs(inputs[order[alike]] - inputs[order[0]]))
        if there < LEAST_CLIPPED:
            continue
        low, high = sorted((float(inputs[order[0]]), float(inputs[order[alike]])))
        words = f"below {100 * high:.0f} %" if end == "low" else f"above {100 * low:.0f} %"
        faults.append(
            RangeFault(name, "clipped", low, high, f"{name}: {words} everything prints alike: it is clipped")
        )
    lightness = uniform_filter1d(lab[:, 0], 3, mode="nearest") if len(inputs) > 9 else lab[:, 0]
    back = np.maximum.accumulate(lightness) - lightness
    if back.max() > TURNED:
        worst = int(back.argmax())
        top = int(lightness[: worst + 1].argmax())
        low, high = float(inputs[top]), float(inputs[worst])
        faults.append(
            RangeFault(
                name,
                "turned",
                low,
                high,
                f"{name}: between {100 * low:.0f} and {100 * high:.0f} % it darkens by {back.max():.1f} L* "
                "where it should lighten: it turns back",
            )
        )
    return faults


# --- tone calibration ------------------------------------------------------------------------


def tone_curves(driver: Driver, tones: str = STRAIGHT) -> CurveSet:
    """Curves of R, G and B in front of the driver, by one of `TONES`.

    *even* makes the lightness of greys a straight line from black to white with the balance as it is, so that
    the three curves are one; *neutral* takes the colour of the greys out as well, down to where the driver's
    black begins.
    """
    grid = np.linspace(0.0, 1.0, INPUTS)
    if tones == STRAIGHT:
        return CurveSet(RGB, np.tile(grid, (3, 1)))
    if tones not in TONES:
        raise BadInput(f"tones are {', '.join(TONES)}, not {tones!r}")
    inputs, lab = driver.greys
    rising = np.asarray(isotonic_regression(lab[:, 0]).x) + np.linspace(0.0, 1e-4, len(inputs))
    fine = np.linspace(0.0, 1.0, 401)
    lightness = CubicSpline(inputs, rising)(fine)
    lightness = np.maximum.accumulate(lightness) + np.linspace(0.0, 1e-6, len(fine))
    wanted = lightness[0] + grid * (lightness[-1] - lightness[0])
    one = np.interp(wanted, lightness, fine)
    if tones == EVEN:
        return CurveSet(RGB, np.tile(_ended(one), (3, 1)))
    return CurveSet(RGB, _neutral(driver, np.interp(_TONES_AT, grid, one), grid))


_TONES_AT = np.linspace(0.0, 1.0, 33)


def _neutral(driver: Driver, start: Array, grid: Array) -> Array:
    """Curves (3, inputs) whose greys are even in lightness and have the paper's colour, fading to none."""
    model = driver.model
    rgb = np.repeat(start[:, None], 3, axis=1)
    ends = _printed(model, np.array([[0.0] * 3, [1.0] * 3]))
    aim = ends[0] + _TONES_AT[:, None] * (ends[1] - ends[0])
    aim[:, 1:] = _TONES_AT[:, None] * ends[1, 1:]
    # the darkest print has the colour it has: the last shadows lead to it
    lead = np.clip((0.2 - _TONES_AT) / 0.2, 0.0, 1.0)[:, None] ** 2
    aim[:, 1:] = (1.0 - lead) * aim[:, 1:] + lead * ends[0, 1:]
    for _ in range(6):
        slope = _slopes(model, rgb)
        miss = aim - _printed(model, rgb)
        normal = np.einsum("nij,nik->njk", slope, slope) + 25.0 * np.eye(3)
        step = np.linalg.solve(normal, np.einsum("nij,ni->nj", slope, miss)[:, :, None])[:, :, 0]
        rgb = np.clip(rgb + np.clip(step, -0.08, 0.08), 0.0, 1.0)
        rgb[0], rgb[-1] = 0.0, 1.0
    rgb[1:-1] = uniform_filter1d(rgb, 3, axis=0, mode="nearest")[1:-1]
    return np.array([_ended(np.interp(grid, _TONES_AT, rgb[:, i])) for i in range(3)])


def _printed(model: ForwardModel, rgb: Array) -> Array:
    """Lab (n, 3) of R, G and B (n, 3); models know amounts of ink."""
    return model.lab(as_inks(rgb, RGB))


def _slopes(model: ForwardModel, rgb: Array) -> Array:
    """How Lab moves with R, G and B: (n, 3, 3), Lab by channel."""
    width = 0.03
    columns = []
    for i in range(3):
        more, less = rgb.copy(), rgb.copy()
        more[:, i] = np.minimum(more[:, i] + width, 1.0)
        less[:, i] = np.maximum(less[:, i] - width, 0.0)
        columns.append((_printed(model, more) - _printed(model, less)) / (more - less)[:, i : i + 1])
    return np.stack(columns, axis=2)


def _ended(curve: Array) -> Array:
    level = np.asarray(isotonic_regression(np.clip(curve, 0.0, 1.0)).x, dtype=float)
    level[0], level[-1] = 0.0, 1.0
    return np.asarray(np.maximum.accumulate(level))


# --- restoring -------------------------------------------------------------------------------


def complement_ramps(readings: ReadingSet) -> dict[str, Ramp]:
    """Ramps of R, G and B from white downward as those of an ink: inputs are what is missing of each."""
    _must_be_rgb(readings)
    device, xyz, lab = readings.values(), readings.xyz(), readings.lab()
    light = readings.spectra if readings.spectra is not None else xyz / 100.0
    out = {}
    for i, name in enumerate(RGB):
        use = np.abs(np.delete(device, i, axis=1) - 1.0).max(axis=1) < 1e-6
        levels, group = np.unique(np.round(1.0 - device[use, i], 4), return_inverse=True)
        if len(levels) < 6 or levels[0] > 0.0:
            raise BadInput(f"the readings have no ramp of {name} from white")
        count = np.bincount(group)[:, None]

        def mean(values: Array, use: Array = use, group: Array = group, count: Array = count) -> Array:
            total = np.zeros((len(count), values.shape[1]))
            np.add.at(total, group, values[use])
            return np.asarray(total / count)

        spread = mean(light)
        spectral = readings.spectra is not None
        density = (
            peak_density(spread, peak_band(spread[-1], spread[0])) if spectral else visual_density(mean(xyz))
        )
        out[name] = Ramp(name, levels, mean(xyz), mean(lab), density, spread)
    return out


def restore_driver(
    baseline: ReadingSet, now: ReadingSet, curves: CurveSet
) -> tuple[CurveSet, dict[str, float]]:
    """Curves of R, G and B that print now what `curves` printed on the day of the baseline, and what is lost.

    Both are of the same chart through `curves`. Each channel is moved by a smooth function of its own value,
    so that over the whole chart the colours come nearest to those of the baseline; how colours answer is read
    off both. Lost are shares of R, G or B that would be needed beyond black.
    """
    _must_be_rgb(baseline)
    if not np.array_equal(baseline.ids, now.ids):
        raise BadInput("the readings are not of the chart that the baseline was taken with")
    device = baseline.values()
    white = device.min(axis=1) > 1.0 - 1e-6
    paper = now.lab()[white].mean(axis=0) - baseline.lab()[white].mean(axis=0)
    depth = 1.0 - np.clip(baseline.lab()[:, :1] / max(float(baseline.lab()[:, 0].max()), 1.0), 0.0, 1.0)
    # paper may have changed; what is printed on it is asked for
    miss = baseline.lab() + (1.0 - depth) * paper - now.lab()
    model = characterize(replace(now, spectra=None, measured_lab=0.5 * (baseline.lab() + now.lab())))
    slope = _slopes(model, device)
    basis = [_basis(device[:, i]) for i in range(3)]
    columns = np.concatenate([slope[:, :, i, None] * basis[i][:, None, :] for i in range(3)], axis=2)
    k = len(_KNOTS)
    weight = 1.0 / (1.0 + 0.02 * np.hypot(*baseline.lab()[:, 1:].T))[:, None, None]
    matrix = (weight * columns).reshape(-1, 3 * k)
    rows = [matrix, *(_stiffness(i, k) for i in range(3))]
    wanted = np.concatenate([(weight[:, :, 0] * miss).ravel(), np.zeros(sum(len(r) for r in rows[1:]))])
    found = np.linalg.lstsq(np.vstack(rows), wanted, rcond=None)[0].reshape(3, k)
    grid = np.linspace(0.0, 1.0, INPUTS)
    outputs, lost = [], {}
    for i, name in enumerate(RGB):
        moved = grid + _basis(grid) @ found[i]
        if moved[0] < -0.01:
            lost[name] = float(-moved[0])
        moved = np.asarray(isotonic_regression(np.clip(moved, 0.0, 1.0)).x)
        outputs.append(np.interp(moved, grid, curves.outputs[i]))
        outputs[-1][-1] = curves.outputs[i, -1]
    return CurveSet(RGB, np.maximum.accumulate(np.array(outputs), axis=1)), lost


def _basis(values: Array) -> Array:
    """Natural cubic splines (n, knots), one a knot; white stays where it is."""
    out = np.column_stack(
        [CubicSpline(_KNOTS, row, bc_type="natural")(values) for row in np.eye(len(_KNOTS))]
    )
    out[:, -1] = 0.0
    return out


def _stiffness(channel: int, k: int) -> Array:
    bend = np.zeros((k - 2, 3 * k))
    for j in range(1, k - 1):
        left, right = _KNOTS[j] - _KNOTS[j - 1], _KNOTS[j + 1] - _KNOTS[j]
        at = channel * k + j
        bend[j - 1, at - 1 : at + 2] = 1.0 / left, -1.0 / left - 1.0 / right, 1.0 / right
    size = np.zeros((k, 3 * k))
    size[:, channel * k : (channel + 1) * k] = np.eye(k)
    return np.vstack([_STIFF * bend, _HELD * size])


def names_of(faults: Sequence[RangeFault]) -> str:
    """Faults in one line, the worst kinds first."""
    return "; ".join(f.words for f in sorted(faults, key=lambda f: f.kind != "turned"))
