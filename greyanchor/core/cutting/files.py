"""Cut paths as files: SVG, DXF and HPGL."""

from __future__ import annotations

import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from greyanchor.core.cutting.paths import KINDS, CutPath
from greyanchor.core.errors import BadInput

#: units of HPGL in a mm
HPGL = 40.0
FORMS = {"svg": "image/svg+xml", "dxf": "image/vnd.dxf", "plt": "application/vnd.hp-hpgl"}


@dataclass(frozen=True)
class Blade:
    """How the blade goes.

    Attributes
    ----------
    force
        Grams; None leaves it as the cutter has it.
    speed
        mm a second; None likewise.
    passes
        How often each path is followed.
    offset
        mm by which a cut is moved, both ways, so that it lies on the printed line.
    tool
        Number of the tool.
    """

    force: float | None = None
    speed: float | None = None
    passes: int = 1
    offset: float = 0.0
    tool: int = 1


def cut_file(
    form: str,
    paths: Sequence[CutPath],
    size: tuple[float, float],
    blade: Blade = Blade(),
    marks: Iterable[tuple[float, float, float]] = (),
) -> bytes:
    """Paths on media of `size` mm as a file; `marks` are discs that a cutter finds again: x, y, radius.

    Raises `BadInput` for another form than `FORMS`, and where there is nothing to cut.
    """
    if form not in FORMS:
        raise BadInput(f"cut paths leave as {', '.join(FORMS)}, not as {form}")
    if not paths:
        raise BadInput("nothing is cut on this run: no piece has a contour")
    moved = [p.moved(blade.offset, blade.offset) for p in paths]
    if form == "svg":
        return _svg(moved, size, list(marks))
    if form == "dxf":
        return _dxf(moved, size, list(marks))
    return _hpgl(moved, blade)


def _svg(
    paths: Sequence[CutPath], size: tuple[float, float], marks: list[tuple[float, float, float]]
) -> bytes:
    """In mm, one group a kind, y along the media downwards."""
    groups = []
    for kind in KINDS:
        lines = [p for p in paths if p.kind == kind]
        if lines:
            drawn = "".join(f'<path d="{_d(p)}"/>' for p in lines)
            groups.append(f'<g id="{kind}" fill="none" stroke="#000" stroke-width="0.1">{drawn}</g>')
    discs = "".join(f'<circle cx="{x:.3f}" cy="{y:.3f}" r="{r:.3f}"/>' for x, y, r in marks)
    if discs:
        groups.append(f'<g id="marks">{discs}</g>')
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{size[0]:.3f}mm" height="{size[1]:.3f}mm" '
        f'viewBox="0 0 {size[0]:.3f} {size[1]:.3f}">{"".join(groups)}</svg>\n'
    ).encode()


def _d(path: CutPath) -> str:
    points = " ".join(f"{x:.3f},{y:.3f}" for x, y in path.points)
    return f"M{points}{'Z' if path.closed else ''}"


def _dxf(
    paths: Sequence[CutPath], size: tuple[float, float], marks: list[tuple[float, float, float]]
) -> bytes:
    """In mm, one layer a kind; y upwards, as drawings have it."""
    import ezdxf  # a quarter of a second to import: not at every start
    from ezdxf import units

    made = ezdxf.new("R2000", units=units.MM)
    for kind in KINDS:
        made.layers.add(kind.upper())
    made.layers.add("MARKS")
    space = made.modelspace()
    flip = np.array([1.0, -1.0])
    for path in paths:
        points = path.points * flip + np.array([0.0, size[1]])
        space.add_lwpolyline(points.tolist(), close=path.closed, dxfattribs={"layer": path.kind.upper()})
    for x, y, radius in marks:
        space.add_circle((x, size[1] - y), radius, dxfattribs={"layer": "MARKS"})
    out = io.StringIO()
    made.write(out)
    return out.getvalue().encode()


def _hpgl(paths: Sequence[CutPath], blade: Blade) -> bytes:
    """x along the media, y across it, 40 units a mm; force and speed where they are known."""
    said = ["IN", f"SP{blade.tool}"]
    if blade.force is not None:
        said.append(f"FS{round(blade.force)}")
    if blade.speed is not None:
        said.append(f"VS{max(1, round(blade.speed / 10.0))}")
    for path in paths:
        steps = np.round(path.followed[:, ::-1] * HPGL).astype(int)
        around = ",".join(f"{x},{y}" for x, y in steps[1:].tolist())
        for _ in range(max(1, blade.passes)):
            said += [f"PU{steps[0, 0]},{steps[0, 1]}", f"PD{around}"]
    return ";".join([*said, "PU", "SP0", ""]).encode()
