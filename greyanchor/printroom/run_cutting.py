"""Cut paths of a run: contours of its pieces where they lie, as a file for a cutter."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.core.cutting.files import Blade, cut_file
from greyanchor.core.cutting.paths import CutPath, CutRules, contours_of, in_order, paths_for
from greyanchor.core.layout.marks import Disc
from greyanchor.core.layout.runs import STRIP
from greyanchor.library.models import PrintMode
from greyanchor.library.records.effective_settings import in_force
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import run_pieces
from greyanchor.printroom.models import Run
from greyanchor.printroom.run_pieces import Part


def contours_of_part(part: Part, turned: bool) -> list[CutPath]:
    """Contours of a piece, mm from its corner as it lies."""
    pages = part.job.artwork.pages
    facts = pages[part.job.page - 1] if 1 <= part.job.page <= len(pages) else {}
    lines = [line for found in facts.get("contours", {}).values() for line in found]
    if not lines:
        return []
    choices = part.turned(turned)
    shape = chosen.shape_of(choices, part.job.page)
    edge = shape.margin_mm
    wide, tall = (part.height, part.width) if turned else (part.width, part.height)
    size = np.array([wide - 2 * edge, tall - 2 * edge])
    found = []
    for line in lines:
        shares = np.array([shape.from_page(x, y) for x, y in line], dtype=float)
        inside = ((shares > -0.01) & (shares < 1.01)).all()
        if inside:
            found.append((shares * size + edge).tolist())
    return contours_of(found)


def has_contours(run: Run) -> bool:
    """Whether any piece of a run has a contour."""
    return any(contours_of_part(part, False) for part in run_pieces.parts_of(run).values())


def paths_of(run: Run) -> list[CutPath]:
    """What is cut on a run, in order. Raises `BadInput` where a bleed leaves nothing of a contour."""
    rules = CutRules.of(run.cutting)
    parts = run_pieces.parts_of(run)
    known: dict[tuple[str, bool], list[CutPath]] = {}
    found = []
    for piece in run_pieces.drawn(run).pieces:
        if piece.id == STRIP:
            continue
        key = piece.id, piece.turned
        if key not in known:
            known[key] = paths_for(contours_of_part(parts[piece.id], piece.turned), rules)
        found += [path.moved(piece.x, piece.y) for path in known[key]]
    return in_order(found)


def blade_of(mode: PrintMode) -> Blade:
    """Force, speed, passes and offset as the machine was readied for the media."""
    held: dict[str, Any] = {key: value.value for key, value in in_force(mode).items()}
    return Blade(
        held.get("cut_force"),
        held.get("cut_speed"),
        int(held.get("cut_passes", 1)),
        float(held.get("cut_offset", 0.0)),
    )


def file_of(run: Run, form: str) -> bytes:
    """The cut paths of a run as SVG, DXF or HPGL. Raises `BadInput` where nothing is cut."""
    laid = run_pieces.drawn(run)
    discs = [(m.x, m.y, m.radius) for m in laid.marks if isinstance(m, Disc)]
    return cut_file(form, paths_of(run), (laid.width, laid.length), blade_of(run.mode), discs)
