"""Figures of printers with further inks, and of those that take R G B, beside their goals."""

from __future__ import annotations

import resource
import sys
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from benchmarks.report import missed, report
from greyanchor.core.calibration.inklimit import find_limit
from greyanchor.core.calibration.light_split import split_channels
from greyanchor.core.calibration.lightinks import find_splits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.ramps import find_ramps
from greyanchor.core.calibration.restore import restore, short_chart
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab, spectra_to_xyz
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile, random_inks
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.separation.halftone.screens import Screen, parse_screen
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests import lcms

_SEVEN, _SIX, _RGB = tuple("CMYKOGV"), tuple("CMYKOG"), tuple("RGB")
_PRESS = "gannet-64/kelp-synthetic-190/basalt-uv-seven"


def _built(
    press: SimulatedPress, channels: tuple[str, ...], count: int, share: float
) -> tuple[ProfileResult, Callable[[Array], Array], float]:
    """A profile from one reading of a chart, what the press prints, and CPU seconds."""

    def truth(device: Array) -> Array:
        return spectra_to_lab(press.spectra(press.as_raw(share * device, channels)))

    chart, _ = lay_out(patches.design("profile", channels, count), channels, shuffle_seed=3)
    read = print_and_read(chart, press, 5, pipeline=lambda v: press.as_raw(share * v, channels))
    began = time.process_time()
    result = build_profile(read, ProfileSettings(Separation(total_ink=3.0)))
    return result, truth, time.process_time() - began


def _each_way(
    result: ProfileResult, truth_of: Callable[[Array], Array], device: Array
) -> tuple[Array, Array]:
    truth = truth_of(device)
    there = delta_e_2000(lcms.device_to_lab(result.data, device), truth)
    back = lcms.lab_to_device(result.data, truth, channels=device.shape[1])
    return there, delta_e_2000(truth_of(back), truth)


def seven() -> None:
    """CMYK with orange, green and violet, 3,000 patches, on a press driven past what its media holds."""
    print("\nSeven inks from 3,000 spectral patches")
    result, truth, seconds = _built(press_by_name(_PRESS), _SEVEN, 3000, 0.75)
    there, back = _each_way(result, truth, random_inks(7, 3.0, 4000))
    report("device to Lab, mean", float(there.mean()), 0.35, "dE00")
    report("Lab to device to press, mean", float(back.mean()), 0.28, "dE00")
    report("build, CPU", seconds, 35.0, "s")
    report("peak memory", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20, 2.0, "GB")
    report("file", result.report["bytes"] / 2**20, 6.0, "MB")
    report("neutral axis, second difference of any ink", result.report["smoothness"], 4.0, "%")
    sys.exit(1 if missed else 0)


def six() -> None:
    """Six inks, 2,000 patches, within what the media holds."""
    print("\nSix inks from 2,000 spectral patches, an easier press")
    result, truth, seconds = _built(press_by_name(_PRESS), _SIX, 2000, 0.55)
    there, back = _each_way(result, truth, random_inks(6, 3.0, 4000))
    report("device to Lab, mean", float(there.mean()), 0.18, "dE00")
    report("Lab to device to press, mean", float(back.mean()), 0.20, "dE00")
    report("build, CPU", seconds, 25.0, "s")
    report("file", result.report["bytes"] / 2**20, 6.0, "MB")
    sys.exit(1 if missed else 0)


def driven() -> None:
    """A printer that takes R G B and parts it by a separation of its own, 1,200 patches."""
    print("\nR G B with a hidden separation, 1,200 spectral patches")
    result, truth, seconds = _built(press_by_name("dunlin-24"), _RGB, 1200, 1.0)
    there, back = _each_way(result, truth, np.random.default_rng(9).random((4000, 3)))
    for name, error, goals in (("device to Lab", there, (0.08, 0.17)), ("Lab to device", back, (0.10, 0.26))):
        report(f"{name}, mean", float(error.mean()), goals[0], "dE00")
        report(f"{name}, 95th percentile", float(np.percentile(error, 95)), goals[1], "dE00")
    report("build, CPU", seconds, 15.0, "s")
    sys.exit(1 if missed else 0)


def restoring() -> None:
    """Two of seven inks drift by 8 %, and are brought back by curves."""
    print("\nA restore of seven inks")
    press = press_by_name(_PRESS)

    def read(device: Array, seed: int, before: Callable[[Array], Array], drifted: bool = False) -> ReadingSet:
        chart, _ = lay_out(device, _SEVEN, shuffle_seed=3)
        state = Condition(drift=(("O", 0.92), ("M", 1.08)) if drifted else ())
        passes = [
            print_and_read(chart, press, seed, k, state, pipeline=lambda v: press.as_raw(before(v), _SEVEN))
            for k in (1, 2)
        ]
        spectra = np.mean([p.spectra for p in passes if p.spectra is not None], axis=0)
        return replace(passes[0], spectra=spectra)

    limits = dict.fromkeys(_SEVEN, 0.74)
    ramps = read(patches.design("linearization", _SEVEN, None, 3.0, limits), 2, lambda v: v)
    curves = linearize(ramps, limits).curves
    baseline = read(short_chart(7), 3, curves.apply)
    after = restore(baseline, read(short_chart(7), 4, curves.apply, True), curves).curves
    off = delta_e_2000(read(short_chart(7), 5, after.apply, True).lab(), baseline.lab())
    report("mean of the short chart to its baseline", float(off.mean()), 0.5, "dE00")
    sys.exit(1 if missed else 0)


def sky() -> None:
    """Dots of a sky with light inks against dots without: L* in windows of half a millimetre."""
    print("\nGrain of a sky, three weights of ink against one")
    press = press_by_name("petrel-44/fathom-satin-260/tarn-pigment-three-weights")
    channels = press.channels
    chart, _ = lay_out(patches.design("ink-limit", channels), channels)
    ramps = find_ramps(print_and_read(chart, press, 6))
    limits = {c: find_limit(r).limit for c, r in ramps.items()}
    splits = find_splits(ramps, limits, {"MC": "C", "LC": "MC", "MM": "M", "LM": "MM"})
    order = [channels.index(c) for c in ("C", "M", "Y", "K", *(s.light for s in splits))]
    shares = []
    for tone in ((0.10, 0.03, 0.0, 0.0), (0.16, 0.05, 0.0, 0.0), (0.22, 0.07, 0.0, 0.0)):
        amounts, plain = np.zeros(len(channels)), np.zeros(len(channels))
        amounts[order] = split_channels(np.array([tone]), tuple("CMYK"), splits)[0]
        plain[:4] = tone
        shares.append(_grain(press, amounts) / _grain(press, plain))
    report("standard deviation of L*, with against without", 100.0 * float(np.mean(shares)), 60.0, "%")
    sys.exit(1 if missed else 0)


def _grain(press: SimulatedPress, amounts: Array, side: int = 1416, window: int = 24) -> float:
    """Standard deviation of L* over windows of 0.5 mm at 1200 dpi: each dot its inks' full light."""
    dots = []
    for place, amount in enumerate(amounts):
        screen = Screen(parse_screen("blue-noise"), 1200, side, place)
        plane = np.full((side, side), round(65535.0 * float(amount)), dtype=np.uint16)
        dots.append(np.unpackbits(screen.packed(plane), axis=1)[:, :side] if amount else plane * 0)
    code = sum(d.astype(np.int64) << i for i, d in enumerate(dots))
    kinds, at = np.unique(code, return_inverse=True)
    device = np.array([[(k >> i) & 1 for i in range(len(amounts))] for k in kinds], dtype=float)
    light = (spectra_to_xyz(press.spectra(device))[:, 1] / 100.0)[at.reshape(side, side)]
    n = side // window
    mean = light[: n * window, : n * window].reshape(n, window, n, window).mean(axis=(1, 3))
    return float((116.0 * np.cbrt(mean) - 16.0).std())
