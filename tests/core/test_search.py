"""Narrowing with counts, forgiving search, ranking, and the speed and ink of a mode."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.ink_use import ink_use
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.throughput import Carriage, square_metres_an_hour
from greyanchor.core.search.facets import WordIndex, narrow, words_of
from greyanchor.core.search.ranking import Candidate, rank

_codes = st.lists(
    st.tuples(st.integers(-1, 3), st.integers(-1, 2), st.integers(0, 1)), min_size=1, max_size=40
)


@given(_codes, st.sets(st.integers(0, 3), max_size=2), st.sets(st.integers(0, 2), max_size=2), st.data())
def test_each_count_is_what_taking_that_choice_alone_would_leave(
    rows: list, a: set, b: set, data: st.DataObject
) -> None:
    table = np.array(rows)
    columns = {"a": table[:, 0], "b": table[:, 1], "c": table[:, 2]}
    within = np.array(data.draw(st.lists(st.booleans(), min_size=len(rows), max_size=len(rows))))
    chosen = {"a": sorted(a), "b": sorted(b)}
    found = narrow(columns, chosen, within)
    for facet, counts in found.counts.items():
        for code, count in enumerate(counts):
            alone = narrow(columns, {**chosen, facet: [code]}, within)
            assert alone.mask.sum() == count
    by_hand = [i for i, (x, y, _) in enumerate(rows) if (not a or x in a) and (not b or y in b) and within[i]]
    assert np.flatnonzero(found.mask).tolist() == by_hand


@pytest.fixture
def index() -> WordIndex:
    made = WordIndex()
    for row, text in enumerate(
        (
            "Harbour Proof Semimatt 235, contract proof",
            "Saltmarsh Cotton 310, archive charts",
            "Kelp Synthetic 190, deck charts",
            "Crème de la mer, élan",
        )
    ):
        made.put(row, [(text, 2.0), ("notes of the tide" if row == 1 else "", 1.0)])
    return made


def _rows(index: WordIndex, query: str) -> list[int]:
    return np.flatnonzero(index.find(query, 4).scores).tolist()


def test_search_finds_parts_accents_and_all_of_the_words(index: WordIndex) -> None:
    assert _rows(index, "harbour") == [0] == _rows(index, "HARB proof") and _rows(index, "charts") == [1, 2]
    assert _rows(index, "charts kelp") == [2] and _rows(index, "elan") == [3] == _rows(index, "Élan creme")
    assert _rows(index, "310") == [1] and _rows(index, "tide") == [1] and _rows(index, "") == [0, 1, 2, 3]
    assert _rows(index, "zebra") == []


@pytest.mark.parametrize(
    ("typed", "row", "meant"),
    [
        ("harbuor", 0, "harbour"),
        ("habour", 0, "harbour"),
        ("saltmrsh", 1, "saltmarsh"),
        ("synthtic", 2, "synthetic"),
        ("coton", 1, "cotton"),
        ("semimat", 0, "semimatt"),
        ("saltmasr", 1, "saltmarsh"),
    ],
)
def test_search_forgives_slips_of_typing_and_says_what_it_took(
    index: WordIndex, typed: str, row: int, meant: str
) -> None:
    found = index.find(typed, 4)
    assert np.flatnonzero(found.scores).tolist() == [row]
    assert found.taken_for.get(typed, meant) == meant


def test_short_words_and_numbers_are_not_guessed_at(index: WordIndex) -> None:
    assert _rows(index, "kel") == [2] and _rows(index, "kep") == [] and _rows(index, "2350") == []


def test_a_replaced_text_is_found_by_its_new_words_alone(index: WordIndex) -> None:
    index.put(0, [("Tideline Matt", 2.0)])
    assert _rows(index, "harbour") == [] and 0 in _rows(index, "tideline")


def test_words_of_names_and_notes_weigh_differently(index: WordIndex) -> None:
    index.put(3, [("other", 2.0), ("harbour", 1.0)])
    scores = index.find("harbour", 4).scores
    assert scores[0] > scores[3] > 0 and words_of("O'Neill 0.35 mm") == ["o", "neill", "0.35", "mm"]


CARRIAGE = Carriage(width=1000, swath=50, fastest=1000, firing=24, turn=0.0)


def test_speed_by_hand() -> None:
    # 24 kHz at 1200 dpi fires every 25.4/1200 mm: 508 mm/s. A stroke of 1 m takes 1.9685 s, the way back 1 s.
    both = square_metres_an_hour(CARRIAGE, 1200, 8, "both ways")
    assert both == pytest.approx(3600 * 1.0 * 0.050 / 8 / (1000 / 508), rel=1e-6)
    one = square_metres_an_hour(CARRIAGE, 1200, 8, "one way")
    assert one == pytest.approx(3600 * 0.050 / 8 / (1000 / 508 + 1), rel=1e-6)
    assert square_metres_an_hour(CARRIAGE, 1200, 8, "both ways", overprints=2) == pytest.approx(both / 2)
    assert (
        square_metres_an_hour(CARRIAGE, 600, 8, "both ways")
        > both
        > square_metres_an_hour(CARRIAGE, 1200, 8, "both ways", pause=1)
    )
    with pytest.raises(BadInput):
        Carriage(0, 50, 1000, 24)


def test_ink_of_a_mode_by_hand() -> None:
    limits = {"C": 80.0, "M": 80.0, "Y": 100.0, "K": 90.0}
    use = ink_use(limits, 280.0, CurveSet.straight({c: v / 100 for c, v in limits.items()}))
    assert use.most == pytest.approx(9.0 * 2.8) and use.tints == pytest.approx(9.0 * 3.5 / 2 / 4, rel=1e-3)
    assert ink_use(limits, None).most == pytest.approx(9.0 * 3.5)


def _candidate(key: int, **values: object) -> Candidate:
    usual = {
        "name": f"mode {key}",
        "own_media": True,
        "verdict": "pass",
        "speed": 10.0,
        "age_days": 10.0,
        "fit": 0.5,
        "gamut": 400e3,
    }
    return Candidate(key, **{**usual, **values})  # type: ignore[arg-type]


def test_quality_and_time_rank_differently_and_every_step_is_text() -> None:
    slow, fast = (
        _candidate(1, speed=4.0, gamut=500e3, fit=0.3),
        _candidate(2, speed=20.0, gamut=350e3, fit=0.9),
    )
    assert [r.candidate.key for r in rank([slow, fast], 0.0)] == [1, 2]
    assert [r.candidate.key for r in rank([slow, fast], 1.0)] == [2, 1]
    best = rank([slow, fast], 0.0, area=10)[0]
    assert (
        best.minutes == pytest.approx(150)
        and "widest gamut of these" in best.reasons
        and "150 min for 10 m²" in best.reasons
    )


def test_what_fails_or_takes_too_long_comes_last_whatever_its_score() -> None:
    failing, late, plain = (
        _candidate(1, verdict="fail", speed=30.0),
        _candidate(2, speed=5.0),
        _candidate(3, verdict="", speed=12.0, gamut=100e3),
    )
    ranked = rank([failing, late, plain], 0.0, area=10, minutes=60)
    assert [r.candidate.key for r in ranked] == [3, 2, 1]
    assert (
        "takes longer than the 60 min there are" in ranked[1].reasons
        and "FAILS its last check" in ranked[2].reasons
    )
    assert rank([], 0.5) == []


def test_own_media_and_own_curves_go_before_borrowed_ones() -> None:
    own, other, lent = _candidate(1), _candidate(2, own_media=False), _candidate(3, inherited=True)
    assert [r.candidate.key for r in rank([other, lent, own], 0.3)] == [1, 3, 2]
