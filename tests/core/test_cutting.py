"""Cut paths: moved, ordered, and written so that others read them."""

from __future__ import annotations

import io
import re
from xml.etree import ElementTree

import ezdxf
import numpy as np
import pytest

from greyanchor.core.cutting.files import Blade, cut_file
from greyanchor.core.cutting.paths import CutPath, CutRules, contours_of, in_order, paths_for
from greyanchor.core.errors import BadInput


def circle(x: float, y: float, radius: float, count: int = 72) -> CutPath:
    turn = np.linspace(0.0, 2 * np.pi, count, endpoint=False)
    return CutPath("cut", np.column_stack([x + radius * np.cos(turn), y + radius * np.sin(turn)]))


def square(x: float, y: float, side: float) -> CutPath:
    return CutPath("cut", np.array([(x, y), (x + side, y), (x + side, y + side), (x, y + side)], float))


def test_contours_close_where_their_ends_meet() -> None:
    closed, open_ = contours_of(
        [[(0, 0), (10, 0), (10, 10), (0, 0.01)], [(0, 0), (10, 0), (10, 10)], [(3, 3), (3, 3)]]
    )
    assert closed.closed and len(closed.points) == 3
    assert not open_.closed and open_.length == pytest.approx(20.0)


def test_bleed_moves_the_cut_in_and_a_second_cut_lies_outside() -> None:
    found = paths_for([circle(50, 50, 20)], CutRules(bleed=2.0, double=3.0))
    cut, double = found
    middle = np.array([50.0, 50.0])
    assert np.hypot(*(cut.points - middle).T) == pytest.approx(18.0, abs=0.05)
    assert np.hypot(*(double.points - middle).T) == pytest.approx(23.0, abs=0.05)
    assert (cut.kind, double.kind) == ("cut", "double")
    with pytest.raises(BadInput, match="nothing left 6 mm inside"):
        paths_for([square(0, 0, 10)], CutRules(bleed=6.0))


def test_weed_lines_stand_around_all_contours_of_a_piece() -> None:
    found = paths_for([square(10, 10, 10), square(40, 10, 10)], CutRules(weed=4.0))
    weed = found[-1]
    assert weed.kind == "weed"
    assert weed.points.min(axis=0).tolist() == [6.0, 6.0] and weed.points.max(axis=0).tolist() == [54.0, 24.0]


def test_inner_contours_are_cut_first_and_the_way_is_short() -> None:
    row = [circle(30 + 40 * i, 30, 10) for i in (3, 0, 2, 1)]
    around = square(0, 0, 200)
    ordered = in_order([around, *row])
    assert ordered[-1].points.mean(axis=0).tolist() == [100.0, 100.0], "the outermost last"
    middles = [float(p.points[:, 0].mean()) for p in ordered[:-1]]
    assert middles == sorted(middles)


@pytest.fixture
def paths() -> list[CutPath]:
    return [circle(50, 80, 20), CutPath("cut", np.array([(0.0, 5.0), (90.0, 5.0)]), False), square(5, 10, 20)]


def test_dxf_is_read_by_another_reader_with_its_layers_and_places(paths: list[CutPath]) -> None:
    data = cut_file("dxf", paths, (100.0, 200.0), marks=[(6.0, 6.0, 2.5)])
    made = ezdxf.read(io.StringIO(data.decode()))
    lines = list(made.modelspace().query("LWPOLYLINE"))
    assert [bool(line.closed) for line in lines] == [True, False, True]
    assert not made.audit().errors
    corner = np.array(lines[2].get_points("xy"))
    assert corner.min(axis=0).tolist() == [5.0, 170.0] and corner.max(axis=0).tolist() == [25.0, 190.0]
    [disc] = made.modelspace().query("CIRCLE")
    assert (disc.dxf.center.x, disc.dxf.center.y, disc.dxf.layer) == (6.0, 194.0, "MARKS")
    assert made.units == 4, "millimetres"


def test_svg_has_the_size_of_the_run_in_mm(paths: list[CutPath]) -> None:
    root = ElementTree.fromstring(cut_file("svg", paths, (100.0, 200.0), Blade(offset=0.5)))
    assert root.get("width") == "100.000mm" and root.get("viewBox") == "0 0 100.000 200.000"
    drawn = [p.get("d") or "" for p in root.iter("{http://www.w3.org/2000/svg}path")]
    assert len(drawn) == 3 and drawn[2].startswith("M5.500,10.500") and drawn[2].endswith("Z")


def followed(data: bytes) -> tuple[list[list[tuple[int, int]]], list[str]]:
    """Lines that a plotter draws, and its other instructions."""
    lines: list[list[tuple[int, int]]] = []
    other = []
    for said in data.decode().split(";"):
        kind, numbers = said[:2], [int(n) for n in re.findall(r"-?\d+", said[2:])]
        points = list(zip(numbers[::2], numbers[1::2]))
        if kind == "PU" and points:
            lines.append(points)
        elif kind == "PD":
            lines[-1] += points
        elif said:
            other.append(said)
    return lines, other


def test_hpgl_follows_each_path_so_often_with_force_and_speed(paths: list[CutPath]) -> None:
    lines, other = followed(cut_file("plt", paths, (100.0, 200.0), Blade(120.0, 300.0, 2)))
    assert len(lines) == 6 and lines[0] == lines[1]
    assert lines[0][0] == lines[0][-1], "a contour ends where it began"
    assert lines[2] == [(200, 0), (200, 3600)], "x goes along the media, 40 units a mm"
    assert other[:4] == ["IN", "SP1", "FS120", "VS30"]


def test_what_cannot_be_cut_says_so(paths: list[CutPath]) -> None:
    with pytest.raises(BadInput, match="no piece has a contour"):
        cut_file("svg", [], (1.0, 1.0))
    with pytest.raises(BadInput, match="not as ps"):
        cut_file("ps", paths, (1.0, 1.0))
    with pytest.raises(BadInput, match=r"bleed: -1 mm is outside 0\.\.20"):
        CutRules(bleed=-1.0)
