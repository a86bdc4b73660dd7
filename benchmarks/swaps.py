"""A swap planted between two readings of the short chart: whether its cause is named: `python -m
benchmarks.swaps`.
"""

from __future__ import annotations

import sys
from collections import Counter
from dataclasses import replace

import numpy as np

from benchmarks.misreads import random_inks, random_press
from benchmarks.report import report
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.restore import short_chart
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import Condition, print_and_read
from greyanchor.core.verification.attribution import (
    HEAD,
    INK,
    INSTRUMENT,
    NOTHING,
    PAPER,
    Change,
    what_changed,
)

KINDS = (PAPER, INK, HEAD, INSTRUMENT)
_CMYK = tuple("CMYK")


def planted(seed: int) -> tuple[str, str, Change]:
    """A swap of a kind by turns, on a press, media and inks of its own: the kind, its ink, and what is
    said.
    """
    random = np.random.default_rng([seed, 2211])
    press = random_press(random, random_inks(random), random.uniform(1.12, 1.42))
    kind, ink = KINDS[seed % len(KINDS)], str(random.choice(list(_CMYK)))

    def read(name: str, limits: dict[str, float] | None = None) -> ReadingSet:
        return print_and_read(lay_out(patches.design(name, limits=limits), _CMYK)[0], press, seed)

    limits = {c: f.limit for c, f in find_limits(read("ink-limit")).items()}
    curves = linearize(read("linearization", limits), limits).curves
    chart, _ = lay_out(short_chart(), _CMYK, shuffle_seed=3)
    before = print_and_read(chart, press, 10_000 + seed, pipeline=curves.apply)
    drift, other = {}, press
    if kind == PAPER:
        other = _paper(press, random)
    elif kind == INK:
        other = _lot(press, random, ink)
    elif kind == HEAD:
        drift[ink] = 1.0 + float(random.choice([-1.0, 1.0]) * random.uniform(0.04, 0.12))
    now = print_and_read(
        chart, other, 20_000 + seed, state=Condition(drift=tuple(drift.items())), pipeline=curves.apply
    )
    if kind == INSTRUMENT:
        now = replace(now, spectra=_other_instrument(np.asarray(now.spectra), random))
    return kind, ink if kind in (INK, HEAD) else "", what_changed(before, now)


def _paper(press: SimulatedPress, random: np.random.Generator) -> SimulatedPress:
    media = press.media
    return replace(press, media=replace(
        media,
        white=media.white + float(random.choice([-1, 1]) * random.uniform(0.005, 0.02)),
        tint=max(0.0, media.tint + float(random.choice([-1, 1]) * random.uniform(0.01, 0.04))),
        brightener=max(0.0, media.brightener + float(random.uniform(-0.015, 0.015))),
        spread=media.spread * (1.0 + float(random.uniform(-0.03, 0.03))),
    ))  # fmt: skip


def _lot(press: SimulatedPress, random: np.random.Generator, ink: str) -> SimulatedPress:
    """Another lot of an ink: stronger or weaker, its colour a little aside."""
    assert press.absorption is not None
    made, i = press.absorption.copy(), _CMYK.index(ink)
    strength = 1.0 + float(random.choice([-1, 1]) * random.uniform(0.03, 0.09))
    shift = float(random.choice([-1, 1]) * random.uniform(1.0, 4.0))
    made[i] = strength * np.interp(WAVELENGTHS - shift, WAVELENGTHS, made[i])
    return replace(press, absorption=made)


def _other_instrument(spectra: Array, random: np.random.Generator) -> Array:
    """Another instrument: its white, its zero and its wavelengths a little aside."""
    gain = 1.0 + float(random.choice([-1, 1]) * random.uniform(0.006, 0.02))
    shift, zero = float(random.uniform(-0.8, 0.8)), float(random.uniform(-0.0006, 0.0006))
    moved = np.stack([np.interp(WAVELENGTHS - shift, WAVELENGTHS, row) for row in spectra])
    return np.maximum(gain * moved + zero, 1e-5)


def run(count: int = 200) -> None:
    """How often the cause is named, first and among the first two."""
    print(f"\n{count} planted swaps, nothing on record")
    first, two, wrong = 0, 0, Counter[str]()
    for seed in range(count):
        kind, ink, change = planted(seed)
        named = [(c.kind, c.ink) for c in change.causes if c.kind != NOTHING][:2]
        first += named[0] == (kind, ink)
        two += (kind, ink) in named
        if named[0] != (kind, ink):
            wrong[f"{kind} {ink} taken for {named[0][0]} {named[0][1]}"] += 1
    report("cause named right, not first", 100.0 * (1 - first / count), 15.0, "%")
    report("cause named right, not among the first two", 100.0 * (1 - two / count), 5.0, "%")
    for words, times in wrong.most_common(8):
        print(f"  {times} times {words}")


if __name__ == "__main__":
    run(*(int(a) for a in sys.argv[1:]))
