"""Every probability that the product states, beside how often it came true."""

from __future__ import annotations

import sys
from dataclasses import replace
from functools import partial

import numpy as np

from benchmarks.misreads import random_inks, random_press
from benchmarks.report import report
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.simulation.instrument import Spot, StripReader
from greyanchor.core.simulation.standin import printed_spectra, reading_spot
from greyanchor.core.verification import aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.guard import guard, scatter_of
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.core.verification.tolerances import ToleranceSet

CMYK = tuple("CMYK")
_SETS = ("iso12647-7:2016", "iso12647-7:2013", "g7-grayscale", "g7-targeted")
_BINS = ((0.5, 0.8), (0.8, 0.95), (0.95, 0.995), (0.995, 1.001))


def guard_pairs(prints: int, repeats: int = 20, first: int = 0) -> np.ndarray:
    """Stated and realised shares, number of passes and verdict (n, 4), of prints near their limits."""
    out = []
    for seed in range(first, first + prints):
        random = np.random.default_rng([seed, 31])
        strip = STRIPS[str(random.choice(["full", "short", "grey"]))].patches()
        press = random_press(random, random_inks(random), random.uniform(1.12, 1.42))
        chart, _ = lay_out(strip, CMYK)
        printed = printed_spectra(chart, press, seed, pipeline=lambda device: 0.8 * device)
        reader, spot = StripReader(noise=float(random.uniform(0.6, 3.0))), reading_spot(press)
        read = partial(_read, chart, printed, reader, spot, seed)
        truth = average([read(k) for k in range(900, 908)])
        passes = [read(k) for k in range(int(random.choice([1, 2, 3])))]
        known = scatter_of(passes) or scatter_of([read(k) for k in (800, 801)])
        tolerances = SHIPPED[str(random.choice(_SETS))]
        direction = random.standard_normal((len(chart), 3)) * [0.6, 1.0, 1.0] + random.standard_normal(3)
        mean, later = average(passes), [read(100 + k) for k in range(repeats)]
        for scale in _scales(random, truth, direction, tolerances):
            aim = _aim(truth, scale * direction)
            result = check(mean, aim, tolerances)
            stated = guard(result, known, len(passes)).share
            came = np.mean([check(r, aim, tolerances).verdict == result.verdict for r in later])
            out.append((stated, came, len(passes), result.verdict == "pass"))
    return np.array(out)


def _read(
    chart: ReadingSet, printed: Array, reader: StripReader, spot: Spot, seed: int, number: int
) -> ReadingSet:
    return replace(chart, spectra=reader.measure(printed, (seed, number, 17), spot))


def _aim(truth: ReadingSet, off: Array) -> aims.Aim:
    return aims.Aim("near", data=replace(truth, spectra=None, measured_lab=truth.lab() + off))


def _scales(
    random: np.random.Generator, truth: ReadingSet, direction: Array, tolerances: ToleranceSet
) -> list[float]:
    """Sizes of the difference around that at which the verdict turns."""

    def passed(scale: float) -> bool:
        return check(truth, _aim(truth, scale * direction), tolerances).verdict == "pass"

    low, high = 0.0, 8.0
    for _ in range(12):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if passed(middle) else (low, middle)
    return [float(low * random.uniform(0.4, 1.8)) for _ in range(4)]


def again(prints: int = 200) -> None:
    """How often a verdict came again, against how often the guard band said so."""
    print("\nWould pass (or fail) again: stated and realised, prints near their limits")
    pairs = guard_pairs(prints)
    for low, high in _BINS:
        inside = (pairs[:, 0] >= low) & (pairs[:, 0] < high)
        if inside.any():
            stated, came = pairs[inside, 0].mean(), pairs[inside, 1].mean()
            print(f"  {low:.3f} to {high:.3f}: {inside.sum()} verdicts, stated {stated:.3f}, came {came:.3f}")
            report(f"stated {low:g} to {min(high, 1):g}, off by", 100 * abs(stated - came), 3.0, "%")


if __name__ == "__main__":
    found = guard_pairs(int(sys.argv[2]), first=int(sys.argv[1]))
    for low, high in _BINS:
        for n in (0, 1, 2, 3):
            for verdict in (0, 1):
                chosen = (found[:, 0] >= low) & (found[:, 0] < high) & (found[:, 3] == verdict)
                chosen &= (found[:, 2] == n) | (n == 0)
                if chosen.any():
                    stated, came = found[chosen, 0].mean(), found[chosen, 1].mean()
                    print(
                        f"{low}-{high} passes {n or 'all'} {'pass' if verdict else 'fail'}: "
                        f"{chosen.sum():4d} stated {stated:.3f} came {came:.3f}"
                    )
