"""Runs: pieces with marks, cuts and hems in their places."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.errors import BadInput
from greyanchor.core.layout import marks
from greyanchor.core.layout.pieces import Piece, overlapping
from greyanchor.core.layout.runs import (
    LINE,
    STRIP,
    Rules,
    arrange,
    box_of,
    check_places,
    placed_from,
    run_of,
)

CARD = Piece("card", 90.0, 50.0, 6, True)


def made(rules: Rules, *pieces: Piece, width: float = 600.0):  # type: ignore[no-untyped-def]
    return run_of(arrange(pieces or (CARD,), rules, width, 0.2), rules, width)


def test_a_run_is_as_long_as_what_lies_on_it() -> None:
    run = made(Rules(gap=5.0))
    assert run.length == pytest.approx(50.0 + 1.0 + LINE), "six cards of 90 mm fit beside one another"
    assert run.line_at == pytest.approx(51.0)
    assert run.share_used == pytest.approx(6 * 90 * 50 / (600 * run.length))
    assert made(Rules(line=False)).length == pytest.approx(50.0)
    assert made(Rules(line=False, advance=200.0)).length == pytest.approx(250.0)


@pytest.mark.parametrize(("align", "left"), [("left", 0.0), ("middle", 17.5), ("right", 35.0)])
def test_rows_lie_left_in_the_middle_or_right(align: str, left: float) -> None:
    run = made(Rules(align=align))
    assert min(p.x for p in run.pieces) == pytest.approx(left)


def test_cuts_go_where_nothing_is_cut_through() -> None:
    tall = Piece("tall", 200.0, 300.0)
    wide = Piece("wide", 500.0, 100.0, 2)
    run = made(Rules(cut="row", line=False), tall, wide)
    boxes = sorted((p.y, p.y + p.height) for p in run.pieces)
    assert run.cuts[-1] == pytest.approx(run.length)
    for cut in run.cuts[:-1]:
        assert not any(top < cut < bottom for top, bottom in boxes)
    assert len(run.cuts) == 3
    assert made(Rules(cut="never")).cuts == ()
    assert made(Rules(cut="end")).cuts == (pytest.approx(50 + 1 + LINE),)
    each = made(Rules(cut="each"))
    assert len(each.cuts) == 6, "each card is cut off"
    assert not [1 for a, b in pairwise(each.pieces) if b.y < a.y + a.height]


def test_crop_marks_touch_no_art_and_point_at_its_edges() -> None:
    run = made(Rules(crop=True))
    bars = [m for m in run.marks if m.kind == "crop"]
    assert len(bars) == 8 * 6
    for piece in run.pieces:
        for bar in bars:
            apart = max(
                piece.x - bar.x - bar.width, bar.x - piece.x - piece.width,
                piece.y - bar.y - bar.height, bar.y - piece.y - piece.height,
            )  # fmt: skip
            assert apart > 1.0, "marks stand apart from what is cut"
    first = run.pieces[0]
    upright = [b for b in bars if b.height > b.width and abs(b.x + b.width / 2 - first.x) < 1e-6]
    assert upright, "a mark stands in line with the left edge"


def test_a_hem_has_folds_and_eyelets_at_the_corners_and_evenly_between() -> None:
    banner = Piece("banner", 1000.0, 2000.0)
    rules = Rules(hem=40.0, eyelets=500.0, line=False)
    run = made(rules, banner, width=1100.0)
    [art] = run.pieces
    assert (art.x, art.y, run.length) == pytest.approx((40.0, 40.0, 2080.0))
    places = marks.eyelets(art, 40.0, 500.0)
    assert len(set(places)) == len(places) == 2 * 4 + 2 * 4
    assert (20.0, 20.0) in places and all(x in (20.0, 1060.0) or y in (20.0, 2060.0) for x, y in places), (
        "all lie in the middle of the hem"
    )
    along = sorted(y for x, y in places if x == 20.0)
    assert max(b - a for a, b in pairwise(along)) <= 500.0
    assert len([m for m in run.marks if m.kind == "fold"]) == 8
    with pytest.raises(BadInput, match="eyelets stand in a hem"):
        Rules(eyelets=500.0)


def test_discs_for_the_cutter_stand_in_the_edges_and_touch_nothing() -> None:
    run = made(Rules(cutter=True), Piece("sheet", 400.0, 1300.0), width=600.0)
    discs = [m for m in run.marks if isinstance(m, marks.Disc)]
    assert len(discs) == 8, "every half metre, on both sides"
    [art] = run.pieces
    for disc in discs:
        inside_x = art.x - disc.radius < disc.x < art.x + art.width + disc.radius
        inside_y = art.y - disc.radius < disc.y < art.y + art.height + disc.radius
        assert not (inside_x and inside_y)
        assert disc.radius <= disc.x <= 600.0 - disc.radius


def test_a_strip_is_a_piece_without_hem_or_marks() -> None:
    rules = Rules(hem=20.0, crop=True)
    run = made(rules, Piece("card", 300.0, 50.0), Piece(STRIP, 240.0, 100.0))
    assert run.strip is not None and run.strip.width == 240.0
    assert run.share_used == pytest.approx(300 * 50 / (600 * run.length))
    assert not overlapping([box_of(p, rules) for p in run.pieces], rules.gap)


def test_pieces_laid_by_hand_keep_their_gap_and_stay_on_the_media() -> None:
    rules = Rules(gap=5.0)
    good = arrange([CARD], rules, 600.0)
    check_places(good, rules, 600.0)
    facts = [
        {"id": p.id, "copy": p.copy, "x": p.x, "y": p.y, "width": p.width, "height": p.height} for p in good
    ]
    near = placed_from([facts[0], {**facts[1], "x": facts[0]["x"] + 92.0}])
    with pytest.raises(BadInput, match="card, copy 1, and card, copy 2, lie nearer than 5 mm"):
        check_places(near, rules, 600.0)
    off = placed_from([{**facts[0], "x": 520.0}])
    with pytest.raises(BadInput, match="card, copy 1, lies off the media, which is 600 mm wide"):
        check_places(off, rules, 600.0)
    with pytest.raises(BadInput, match="before the run begins"):
        check_places(good, Rules(advance=10.0), 600.0)
    with pytest.raises(BadInput, match="'y' is missing"):
        placed_from([{"id": "a", "copy": 1, "x": 0, "width": 1, "height": 1}])


def test_what_does_not_fit_with_its_marks_says_so() -> None:
    with pytest.raises(BadInput, match="marks and hem counted in"):
        arrange([Piece("poster", 590.0, 100.0)], Rules(crop=True), 600.0)
    with pytest.raises(BadInput, match="no side 'centre'"):
        Rules(align="centre")


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.floats(5, 250), st.floats(5, 400), st.integers(1, 5), st.booleans()),
        min_size=1, max_size=8,
    ),
    st.sampled_from(["order", "rows", "save"]), st.sampled_from(["never", "row", "each"]),
    st.booleans(), st.booleans(), st.floats(0, 30), st.floats(0, 25),
)  # fmt: skip
def test_whatever_is_laid_out_can_be_checked(
    sizes: list[tuple[float, float, int, bool]],
    way: str,
    cut: str,
    crop: bool,
    cutter: bool,
    gap: float,
    hem: float,
) -> None:
    pieces = [Piece(f"p{i}", w, h, n, t) for i, (w, h, n, t) in enumerate(sizes)]
    rules = Rules(way=way, cut=cut, crop=crop, cutter=cutter, gap=gap, hem=hem)
    placed = arrange(pieces, rules, 620.0, 0.05)
    assert len(placed) == sum(p.copies for p in pieces)
    check_places(placed, rules, 620.0)
    run = run_of(placed, rules, 620.0)
    boxes = [box_of(p, rules) for p in placed]
    assert run.length >= max(b.y + b.height for b in boxes)
    assert not any(b.y + 1e-6 < c < b.y + b.height - 1e-6 for c in run.cuts for b in boxes)
