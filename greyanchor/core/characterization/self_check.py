"""What a pass should measure by its own word and that of earlier readings: each patch from all the others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from greyanchor.core.characterization.expectation import InkFilms, learn_films
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.expectation import Expectation, fit_common, guess
from greyanchor.core.measurement.misread_sheets import SuspectRow, suspect_rows
from greyanchor.core.measurement.readings import ReadingSet

#: overprints from which on a chart says enough of itself
_ENOUGH = 100
#: patches farther off than this (Lab, and times the median) are left out before the rest is learned from
_FAR, _TIMES = 3.0, 4.0
_ROUNDS = 3


def suspects(readings: ReadingSet, earlier: Sequence[ReadingSet], generic: Array) -> list[SuspectRow]:
    """Rows of a whole pass over a laid-out chart that are not what they should be.

    They are held to what `earlier` readings of the same device values let expect, or to what the rest of the
    pass says, whichever is nearer to it; to `generic` Lab (n, 3) of any printer where both say nothing.

    Raises `BadInput` for readings without device values or places on sheets.
    """
    if readings.rows is None:
        raise BadInput("the readings have no SHEET, ROW and COLUMN fields, so no row can be named")
    readings.values()
    found: list[SuspectRow] = []
    sound = np.ones(len(readings), dtype=bool)
    for attempt in range(_ROUNDS):
        expected = _nearest(readings, earlier, generic, sound)
        seen = suspect_rows(readings, expected, readings.lab())
        # what a misread row taught of its neighbours is taken back, and they are judged again
        still = {s.row for s in found} if attempt else {s.row for s in seen}
        found = [s for s in seen if s.row in still]
        now = ~np.isin(readings.rows, [s.row for s in found])
        if (now == sound).all():
            break
        sound = now
    return found


def _nearest(
    readings: ReadingSet, earlier: Sequence[ReadingSet], generic: Array, sound: npt.NDArray[np.bool_]
) -> Expectation:
    """The expectation that lies nearest to the readings as a whole; only `sound` ones (n,) are learned
    from.
    """
    candidates = [guess(generic)]
    for source in ([*earlier], [*earlier, readings], [readings]):
        found = _from(readings, source, sound) if source else None
        if found is not None:
            candidates.append(found)
    measured = readings.lab()
    return min(candidates, key=lambda e: _typical(e, measured))


def _typical(expected: Expectation, measured: Array) -> float:
    bent = expected.bent(np.arange(len(expected)), measured) if expected.rough else expected
    _, left = fit_common(bent, measured)
    # a guess is no expectation where anything better comes near
    return float(np.median(np.linalg.norm(left, axis=1))) * (2.0 if expected.rough else 1.0)


def _from(
    readings: ReadingSet, sources: Sequence[ReadingSet], sound: npt.NDArray[np.bool_]
) -> Expectation | None:
    own = any(s is readings for s in sources)
    over = (readings.inks() > 1e-4).sum(axis=1) > 1
    if own and over.sum() < _ENOUGH:
        return None
    try:
        if not own:
            films = learn_films(sources, readings.channels)
            return films.expect(readings.inks(), source="earlier readings")
        return _trimmed(readings, [s for s in sources if s is not readings], sound)
    except BadInput:
        return None


def _trimmed(
    readings: ReadingSet, earlier: Sequence[ReadingSet], sound: npt.NDArray[np.bool_]
) -> Expectation:
    """Each patch as all others have it: what lies far off is left out and the rest learned from again."""
    kept = sound
    measured, inks = readings.lab(), readings.inks()
    expected: Expectation | None = None
    for _ in range(_ROUNDS):
        films = learn_films([*earlier, readings.select(kept)], readings.channels)
        expected = films.expect(inks, source="the rest of the chart")
        expected = _without_themselves(films, expected, inks, kept, measured)
        off = np.linalg.norm(fit_common(expected, measured)[1], axis=1)
        near = sound & (off <= max(_FAR, _TIMES * float(np.median(off))))
        if (near == kept).all():
            break
        kept = near
    assert expected is not None
    return expected


def _without_themselves(
    films: InkFilms,
    expected: Expectation,
    inks: Array,
    kept: npt.NDArray[np.bool_],
    measured: Array,
) -> Expectation:
    """The same with patches that were learned from predicted by the others alone (leave one out)."""
    if films.learned is None:
        return expected
    places, off, unsure = films.left_out()
    known = {tuple(v): i for i, v in enumerate(np.round(places, 6).tolist())}
    lab, spread = expected.lab.copy(), expected.spread.copy()
    for i, place in enumerate(np.round(films.places(inks), 6).tolist()):
        at = known.get(tuple(place)) if kept[i] else None
        if at is not None:
            lab[i], spread[i] = measured[i] + off[at], unsure[at]
    return replace(expected, lab=lab, spread=spread)
