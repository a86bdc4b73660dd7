"""Pieces on a strip: never over one another, in order, and saving media."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.cli import main
from greyanchor.core.errors import BadInput
from greyanchor.core.layout.nesting import save_media
from greyanchor.core.layout.pieces import Layout, Piece, Placed, overlapping, pieces_from
from greyanchor.core.layout.rows import as_they_come, in_rows

WAYS = {
    "as they come": as_they_come,
    "in rows": in_rows,
    "to save media": lambda *given: save_media(*given, seconds=0.05),
}
_piece = st.builds(
    Piece,
    st.just(""),
    st.floats(5, 400),
    st.floats(5, 700),
    st.integers(1, 4),
    st.booleans(),
)


def sound(layout: Layout, pieces: list[Piece], gap: float) -> None:
    """Every copy once, in its own size, on the media, apart from all others; by comparing all pairs."""
    assert [(p.id, p.copy) for p in layout.placed] == [
        (p.id, n) for p in pieces for n in range(1, p.copies + 1)
    ]
    by_id = {p.id: p for p in pieces}
    boxes = []
    for p in layout.placed:
        own = by_id[p.id]
        assert (p.width, p.height) == ((own.height, own.width) if p.turned else (own.width, own.height))
        assert own.turn or not p.turned
        assert p.x >= -1e-6 and p.y >= -1e-6 and p.x + p.width <= layout.media_width + 1e-6
        boxes.append((p.x, p.y, p.x + p.width, p.y + p.height))
    box = np.array(boxes)
    for i in range(len(box)):
        across = np.maximum(box[i + 1 :, 0] - box[i, 2], box[i, 0] - box[i + 1 :, 2])
        along = np.maximum(box[i + 1 :, 1] - box[i, 3], box[i, 1] - box[i + 1 :, 3])
        assert (np.maximum(across, along) >= gap - 1e-6).all()
    assert layout.length == pytest.approx(box[:, 3].max())


@pytest.mark.parametrize("way", WAYS)
@settings(max_examples=25, deadline=None)
@given(st.lists(_piece, min_size=1, max_size=12), st.sampled_from([0.0, 2.5, 10.0]))
def test_no_layout_overlaps_or_loses_a_piece(way: str, pieces: list[Piece], gap: float) -> None:
    named = [Piece(str(i), p.width, p.height, p.copies, p.turn) for i, p in enumerate(pieces)]
    sound(WAYS[way](named, 400.0, gap), named, gap)


def test_pieces_come_in_their_order_and_begin_new_rows() -> None:
    found = as_they_come([Piece("a", 60, 20, 2), Piece("b", 50, 40)], 130.0, 5.0)
    assert [(p.x, p.y) for p in found.placed] == [(0, 0), (65, 0), (0, 25)]
    assert found.length == 65 and found.share_used == pytest.approx((2 * 1200 + 2000) / (130 * 65))
    middle = as_they_come([Piece("a", 60, 20)], 130.0, 5.0, "middle")
    right = as_they_come([Piece("a", 60, 20)], 130.0, 5.0, "right")
    assert (middle.placed[0].x, right.placed[0].x) == (35.0, 70.0)


def test_rows_hold_pieces_of_like_height() -> None:
    found = in_rows([Piece("low", 40, 10, 2), Piece("high", 40, 90, 2)], 100.0)
    assert [p.y for p in found.placed] == [90.0, 90.0, 0.0, 0.0]
    laid = in_rows([Piece("a", 20, 90, 1, True)], 100.0)
    assert laid.placed[0].turned and laid.length == 20.0


def cut_strip(width: int, length: int, count: int, random: np.random.Generator) -> list[tuple[int, int]]:
    """A strip cut into rectangles, so that the best layout is known."""
    parts = [(width, length)]
    while len(parts) < count:
        areas = np.array([w * h for w, h in parts], dtype=float)
        i = int(random.choice(len(parts), p=areas / areas.sum()))
        w, h = parts[i]
        across = random.random() < w / (w + h)
        side = w if across else h
        if side < 10:
            continue
        at = int(random.integers(side // 5, side - side // 5 + 1))
        parts[i] = (at, h) if across else (w, at)
        parts.append((side - at, h) if across else (w, side - at))
    return parts


@pytest.mark.parametrize("count", [17, 49, 97])
def test_saving_media_comes_near_the_best_possible(count: int) -> None:
    random = np.random.default_rng(count)
    parts = cut_strip(800, 900, count, random)
    pieces = [Piece(str(i), float(w), float(h), 1, True) for i, (w, h) in enumerate(parts)]
    found = save_media([pieces[i] for i in random.permutation(count)], 800.0, seconds=0.6)
    assert 900.0 - 1e-6 <= found.length <= 1.09 * 900.0
    assert found.length < in_rows(pieces, 800.0).length


def test_copies_that_tile_the_media_waste_nothing() -> None:
    found = save_media([Piece("sticker", 60, 40, 24, True)], 190.0, 5.0, seconds=0.2)
    assert found.length <= 24 / 3 * 45 - 5 + 1e-6
    sound(found, [Piece("sticker", 60, 40, 24, True)], 5.0)


def test_overlaps_are_found_by_name() -> None:
    a, b = Placed("a", 1, 0, 0, 50, 50), Placed("b", 1, 52, 10, 50, 50)
    assert not overlapping([a, b]) and overlapping([b, a], 5.0) == [(a, b)]


def test_bad_input_is_named() -> None:
    with pytest.raises(BadInput, match="sign is 500 x 120 mm, which does not fit on 400 mm of media, unless"):
        save_media([Piece("sign", 500, 120)], 400.0)
    for pieces in (
        lambda: Piece("x", 0, 5),
        lambda: Piece("x", 5, float("nan")),
        lambda: Piece("x", 5, 5, 0),
    ):
        with pytest.raises(BadInput, match="x"):
            pieces()
    with pytest.raises(BadInput, match="same id"):
        pieces_from({"media_width": 5, "items": [{"id": 1, "width": 1, "height": 1}] * 2})
    with pytest.raises(BadInput, match="item 1 needs"):
        pieces_from({"media_width": 5, "items": [{"id": 1}]})


def test_the_command_places_and_refuses(tmp_path: Path) -> None:
    given, placed = tmp_path / "items.json", tmp_path / "placed.json"
    items = [
        {"id": "a", "width": 50, "height": 20, "copies": 3, "turn": True},
        {"id": "b", "width": 90, "height": 30},
    ]
    given.write_text(json.dumps({"media_width": 100, "gap": 0, "items": items}))
    assert CliRunner().invoke(main, ["place", str(given), "-o", str(placed)]).exit_code == 0
    found = json.loads(placed.read_text())
    assert set(found) == {"length", "share_used", "placed"} and len(found["placed"]) == 4
    assert set(found["placed"][0]) == {"id", "copy", "x", "y", "turned"}
    assert found["share_used"] == pytest.approx((3 * 1000 + 2700) / (100 * found["length"]), abs=1e-5)
    given.write_text("{")
    refused = CliRunner().invoke(main, ["place", str(given), "-o", str(placed)])
    assert refused.exit_code == 2 and "items.json" in refused.output
