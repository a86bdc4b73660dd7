"""What changed between two readings: swaps planted on presses that nothing ships, named from the light
alone.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from benchmarks import swaps
from greyanchor.core.calibration.restore import short_chart
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.standin import Condition, print_and_read
from greyanchor.core.verification.attribution import (
    HEAD,
    INK,
    INSTRUMENT,
    NOTHING,
    PAPER,
    what_changed,
)
from tests.conftest import PrintRoom


@pytest.mark.parametrize("kind", swaps.KINDS)
def test_planted_swaps_are_named(kind: str) -> None:
    first = two = 0
    for seed in range(swaps.KINDS.index(kind), 32, 4):
        _, ink, change = swaps.planted(seed)
        named = [(c.kind, c.ink) for c in change.causes if c.kind != NOTHING]
        first += named[0] == (kind, ink)
        two += (kind, ink) in named[:2]
    assert first >= 6 and two >= 7, (kind, first, two)


def _chart() -> ReadingSet:
    return lay_out(short_chart(), tuple("CMYK"), shuffle_seed=3)[0]


@pytest.fixture(scope="module")
def before(room: PrintRoom) -> ReadingSet:
    return print_and_read(_chart(), room.press, 41, pipeline=room.curves.apply)


def _now(room: PrintRoom, seed: int = 42, **state: object) -> ReadingSet:
    condition = Condition(**state)  # type: ignore[arg-type]
    return print_and_read(_chart(), room.press, seed, state=condition, pipeline=room.curves.apply)


def test_two_prints_of_one_day_are_alike(room: PrintRoom, before: ReadingSet) -> None:
    change = what_changed(before, _now(room))
    assert change.mean < 0.5 and change.causes[0].kind == NOTHING
    assert "nothing beyond the noise" in change.words[0]


def test_it_is_said_in_words(room: PrintRoom, before: ReadingSet) -> None:
    heavier = what_changed(before, _now(room, drift=(("C", 1.10),)))
    said = "; ".join(heavier.words)
    assert "C " in said and "stronger in the solid" in said and "heavier in midtones" in said
    assert "M, Y, K unchanged" in said
    assert (heavier.causes[0].kind, heavier.causes[0].ink) == (HEAD, "C")
    both = what_changed(before, _now(room, drift=(("C", 1.12), ("M", 0.95))))
    assert (both.causes[0].kind, both.causes[0].ink) == (HEAD, "") and "Y, K unchanged" in both.words[-1]
    whiter = what_changed(before, _now(room, paper=(0.5, 0.0, -1.5)))
    assert any("bluer by" in w for w in whiter.words) and whiter.causes[0].kind == PAPER
    assert whiter.paper[2] == pytest.approx(-1.5, abs=0.4)


def test_what_is_on_record_counts(room: PrintRoom, before: ReadingSet) -> None:
    now = _now(room, drift=(("M", 1.04),))
    bare, told = what_changed(before, now), what_changed(before, now, [(INK, "M")])

    def chance(change, kind: str) -> float:  # type: ignore[no-untyped-def]
        return next(c.chance for c in change.causes if (c.kind, c.ink) == (kind, "M"))

    assert chance(told, INK) > chance(bare, INK)
    assert next(c for c in told.causes if (c.kind, c.ink) == (INK, "M")).recorded
    assert sum(c.chance for c in told.causes) == pytest.approx(1.0)


def test_other_charts_and_readings_without_spectra_are_refused(room: PrintRoom, before: ReadingSet) -> None:
    with pytest.raises(BadInput, match="need spectra"):
        what_changed(before, replace(before, spectra=None, measured_lab=before.lab()))
    with pytest.raises(BadInput):
        what_changed(before, before.select(np.arange(20)))
    scaled = replace(before, spectra=np.asarray(before.spectra) * 1.02)
    assert what_changed(before, scaled).causes[0].kind == INSTRUMENT
