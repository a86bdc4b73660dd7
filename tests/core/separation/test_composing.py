"""Runs as print files: every dot of a piece in its place, marks between, read by another library."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageSequence

from greyanchor.core.charts.strips import of_kind
from greyanchor.core.errors import BadInput
from greyanchor.core.layout.pieces import Piece, Placed
from greyanchor.core.layout.runs import Rules, Run, arrange, run_of
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
from greyanchor.core.separation.composing import compose
from greyanchor.core.separation.halftone.screens import ScreenSpec
from greyanchor.core.separation.plane_reading import PlaneReader
from greyanchor.core.separation.strip_planes import write_strip

DPI = 254.0  # ten dots a mm
INKS = tuple("CMYK")
PLAIN = ScreenSpec()


def planes_of(path: Path) -> np.ndarray:
    """Dots (inks, rows, columns) as another reader has them; 0 is no ink."""
    found = []
    with Image.open(path) as file:
        two = file.mode == "L"
        for page in ImageSequence.Iterator(file):
            seen = np.asarray(page)
            found.append((255 - seen) // 85 if two else ~seen)
    return np.stack(found).astype(np.uint8)


def part(path: Path, width: int, height: int, seed: int = 1, bits: int = 1) -> np.ndarray:
    """A print file of noise, and its dots."""
    dots = np.random.default_rng(seed).integers(0, 1 << bits, (4, height, width), dtype=np.uint8)
    writer = PlaneWriter(path, PlaneLayout(width, height, INKS, bits, DPI), 16, {})
    for top in range(0, height, 16):
        band = dots[:, top : top + 16]
        if bits == 1:
            writer.write(list(np.packbits(band, axis=2)))
        else:
            padded = np.pad(band, ((0, 0), (0, 0), (0, -width % 4)))
            four = [padded[:, :, i::4] << (6 - 2 * i) for i in range(4)]
            writer.write(list(np.bitwise_or.reduce(four)))
    writer.close()
    return dots


def run_with(*placed: Placed, rules: Rules = Rules(line=False), width: float = 60.0) -> Run:
    return run_of(placed, rules, width)


@pytest.mark.parametrize("x", [0.0, 0.1, 0.7, 3.3, 12.9])
@pytest.mark.parametrize("bits", [1, 2])
def test_each_dot_of_a_piece_lies_where_the_piece_lies(tmp_path: Path, x: float, bits: int) -> None:
    dots = part(tmp_path / "a.tif", 203, 77, bits=bits)
    run = run_with(Placed("a", 1, x, 1.3, 20.3, 7.7))
    screen = ScreenSpec(sizes=bits)
    compose(run, {("a", False): tmp_path / "a.tif"}, INKS, screen, DPI, tmp_path / "run.tif")
    made = planes_of(tmp_path / "run.tif")
    assert made.shape == (4, 90, 600)
    left = round(x * 10)
    assert (made[:, 13:90, left : left + 203] == dots).all()
    made[:, 13:90, left : left + 203] = 0
    assert not made.any(), "nothing else is printed"


def test_pieces_beside_one_another_across_bands(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from greyanchor.core.separation import composing

    monkeypatch.setattr(composing, "_BAND", 600 * 24)
    a, b = part(tmp_path / "a.tif", 150, 300), part(tmp_path / "b.tif", 301, 100, 2)
    placed = [Placed("a", n, 16.0 * (n - 1), 0.5 * n, 15.0, 30.0) for n in (1, 2)]
    run = run_with(*placed, Placed("b", 1, 29.9, 45.0, 30.1, 10.0, True))
    compose(
        run, {("a", False): tmp_path / "a.tif", ("b", True): tmp_path / "b.tif"}, INKS, PLAIN, DPI,
        tmp_path / "run.tif",
    )  # fmt: skip
    made = planes_of(tmp_path / "run.tif")
    assert (made[:, 5:305, :150] == a).all() and (made[:, 10:310, 160:310] == a).all()
    assert (made[:, 450:550, 299:600] == b).all()
    assert int(made.sum()) == 2 * int(a.sum()) + int(b.sum())


def test_marks_and_words_are_black_ink_and_counted(tmp_path: Path) -> None:
    part(tmp_path / "a.tif", 200, 200)
    rules = Rules(crop=True, cutter=True)
    placed = arrange([Piece("a", 20.0, 20.0, 2)], rules, 100.0)
    run = run_of(placed, rules, 100.0)
    done = compose(
        run, {("a", False): tmp_path / "a.tif"}, INKS, PLAIN, DPI, tmp_path / "run.tif", "Chart, edition 3"
    )
    made = planes_of(tmp_path / "run.tif")
    for p in run.pieces:
        made[:, round(p.y * 10) : round(p.y * 10) + 200, round(p.x * 10) : round(p.x * 10) + 200] = 0
    assert not made[:3].any(), "marks are black alone"
    disc = made[3, 0:120, 0:120].sum()
    assert disc == pytest.approx(np.pi * 25.0**2, rel=0.03), "a disc of 5 mm stands in the corner"
    assert made[3, round(run.line_at * 10) :].sum() > 500, "the line of words is there"
    assert done.mark_ml["K"] == pytest.approx(LOAD_AT_FULL * made[3].sum() * 1e-8)


def test_a_killed_run_goes_on_after_its_last_band(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from greyanchor.core.printing import plane_file
    from greyanchor.core.separation import composing

    monkeypatch.setattr(composing, "_BAND", 600 * 16)
    monkeypatch.setattr(plane_file, "_NOTED_EVERY", 0.0)
    dots = part(tmp_path / "a.tif", 200, 400)
    run = run_with(Placed("a", 1, 5.0, 0.0, 20.0, 40.0))
    parts = {("a", False): tmp_path / "a.tif"}

    def killed(share: float) -> None:
        if share > 0.5:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        compose(run, parts, INKS, PLAIN, DPI, tmp_path / "run.tif", report=killed, resume=True)
    assert not (tmp_path / "run.tif").exists()
    shares: list[float] = []
    compose(run, parts, INKS, PLAIN, DPI, tmp_path / "run.tif", report=shares.append, resume=True)
    assert shares[0] > 0.5, "what was written stays"
    assert (planes_of(tmp_path / "run.tif")[:, :, 50:250] == dots).all()


def test_parts_for_something_else_are_refused(tmp_path: Path) -> None:
    part(tmp_path / "a.tif", 200, 200)
    run = run_with(Placed("a", 1, 0.0, 0.0, 20.0, 20.0))
    parts = {("a", False): tmp_path / "a.tif"}
    with pytest.raises(BadInput, match="the run has C M Y K O, 1 bits at 254 dpi"):
        compose(run, parts, (*INKS, "O"), PLAIN, DPI, tmp_path / "run.tif")
    with pytest.raises(BadInput, match="a is not prepared turned"):
        compose(run_with(replace(run.pieces[0], turned=True)), parts, INKS, PLAIN, DPI, tmp_path / "r.tif")
    large = run_with(Placed("a", 1, 0.0, 0.0, 25.0, 20.0))
    with pytest.raises(BadInput, match="its place on the run is 250 x 200: prepare it again"):
        compose(large, parts, INKS, PLAIN, DPI, tmp_path / "run.tif")
    (tmp_path / "b.tif").write_bytes(b"II*\0nothing")
    with pytest.raises(BadInput, match="no print file"):
        PlaneReader(tmp_path / "b.tif")
    data = bytearray((tmp_path / "a.tif").read_bytes())
    data[60:400] = bytes(340)
    (tmp_path / "c.tif").write_bytes(bytes(data))
    with pytest.raises(BadInput, match="is damaged"):
        PlaneReader(tmp_path / "c.tif").rows(0, 0, 32)


def test_a_strip_prints_each_patch_with_its_amounts(tmp_path: Path) -> None:
    chart = of_kind("short", "320x110")
    ml = write_strip(chart, INKS, PLAIN, 600.0, tmp_path / "strip.tif", "Harbour Proof: control strip")
    made = planes_of(tmp_path / "strip.tif")
    from greyanchor.core.charts.layout import layout_of

    layout, dots = layout_of(chart), 600.0 / 25.4
    for row, column, wanted in zip(chart.rows, chart.columns, chart.values()):
        left, top, wide, tall = (round(v * dots) for v in layout.rectangle(int(row) - 1, int(column) - 1))
        patch = made[:, top + 4 : top + tall - 4, left + 4 : left + wide - 4]
        assert patch.mean(axis=(1, 2)) == pytest.approx(wanted, abs=0.01)
    area = layout.page[0] * layout.page[1] / 1e6
    for i, ink in enumerate(INKS):
        assert ml[ink] == pytest.approx(LOAD_AT_FULL * area * made[i].mean(), rel=0.02)
    with pytest.raises(BadInput, match="2 sheets of its page"):
        write_strip(of_kind("averaged", "320x100"), INKS, PLAIN, 600.0, tmp_path / "s.tif")
