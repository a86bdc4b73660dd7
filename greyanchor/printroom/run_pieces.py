"""What lies on a run: jobs and their panels as pieces, the control strip, and everything in its place."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from greyanchor.checks.strip_prints import CMYK, StripChoice, strip_chart
from greyanchor.core.charts.layout import layout_of, narrow_page
from greyanchor.core.errors import BadInput
from greyanchor.core.layout import runs as layout
from greyanchor.core.layout.pieces import Piece, Placed
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.printroom import choices as chosen
from greyanchor.printroom.models import Job, Run, RunJob
from greyanchor.printroom.preparing import size_mm

#: a strip is at most so wide, so that it can be cut off and read on a table
_WIDEST_STRIP = 360.0
#: mm by which a size may differ and is the same
_SAME_MM = 0.01


@dataclass(frozen=True)
class Part:
    """A job, or a panel of one, as it lies on runs.

    Attributes
    ----------
    id
        Its name in places: the job's number, and the panel's where it has several.
    job
        Whose it is.
    panel
        From 1; 0 for a job in one piece.
    choices
        The job's, cropped to the panel.
    width, height
        mm as printed, margin included, before it is turned on the run.
    """

    id: str
    job: Job
    panel: int
    choices: dict[str, Any]
    width: float
    height: float

    @property
    def title(self) -> str:
        """What people call it."""
        return f"{self.job.name}, panel {self.panel}" if self.panel else self.job.name

    def turned(self, is_turned: bool) -> dict[str, Any]:
        """Its choices as it lies on the run."""
        if not is_turned:
            return self.choices
        return {**self.choices, "quarters": (int(self.choices["quarters"]) + 1) % 4}


def parts_of_job(job: Job) -> list[Part]:
    """A job's pieces: one, or one a panel that is switched on. Raises `BadInput` for one without a size."""
    facts = chosen.of_job(job)
    width, height = size_mm(job)
    if not width or not height:
        raise BadInput(f"{job.name} has no size yet: its artwork is being examined")
    found = []
    parts = chosen.panels_of(facts, width)
    for number, part in enumerate(parts, 1):
        if number in facts["panels_off"]:
            continue
        panel = number if len(parts) > 1 else 0
        single = {**facts, "crop": list(part), "copies": 1} if panel else {**facts, "copies": 1}
        crop = single["crop"] or (0.0, 0.0, 1.0, 1.0)
        wide, tall = width * crop[2], height * crop[3]
        if int(facts["quarters"]) % 2:
            wide, tall = tall, wide
        edge = 2.0 * float(facts["margin_mm"])
        name = f"{job.pk}.{panel}" if panel else str(job.pk)
        found.append(Part(name, job, panel, single, wide + edge, tall + edge))
    if not found:
        raise BadInput(f"every panel of {job.name} is switched off: switch one on")
    return found


def parts_of(run: Run) -> dict[str, Part]:
    """All pieces of a run by their names."""
    on_it = run.parts.select_related("job__artwork")
    return {part.id: part for on in on_it for part in parts_on(on)}


def parts_on(on: RunJob) -> list[Part]:
    """The pieces of a job that are on its run. Raises `BadInput` where it has none of them any more."""
    parts = parts_of_job(on.job)
    if on.panels:
        parts = [p for p in parts if p.panel in on.panels]
    if not parts:
        raise BadInput(f"{on.job.name} has other panels by now: take it off the run and put it on again")
    return parts


def pieces_of(run: Run) -> list[Piece]:
    """What is to be placed: jobs in their order, then the strip."""
    return [*_job_pieces(run), *_strip_pieces(run)]


def _job_pieces(run: Run) -> Iterator[Piece]:
    on: RunJob
    for on in run.parts.select_related("job__artwork"):
        for part in parts_on(on):
            yield Piece(part.id, part.width, part.height, on.copies, on.turn, part.title)


def _strip_pieces(run: Run) -> Iterator[Piece]:
    if run.strip:
        page = layout_of(strip_of(run)).page
        yield Piece(layout.STRIP, page[0], page[1], 1, False, "the control strip")


def strip_of(run: Run) -> ReadingSet:
    """The strip of a run, laid out for the reader at hand and as wide as the run allows: C M Y K of its
    patches.
    """
    choice = strip_choice(run)
    plain = strip_chart(replace(choice, page="a2"))
    room = min(run.width_mm - 2 * run.laid_by.edge, _WIDEST_STRIP)
    page = narrow_page(len(plain), choice.method, room)
    return strip_chart(replace(choice, page=page), title=f"{run.mode.name}: strip on a run")


def strip_choice(run: Run) -> StripChoice:
    """Which strip a run carries."""
    return StripChoice(str(run.strip.get("kind", "short")), "a4", str(run.strip.get("method", "strip")))


def can_carry_strip(run: Run) -> bool:
    """Whether strips of C M Y K can be printed on it."""
    profile = run.mode.profile
    return profile is not None and tuple(profile.channels) == CMYK


def drawn(run: Run) -> layout.Run:
    """Everything of a run in its place."""
    return layout.run_of(layout.placed_from(run.places), run.laid_by, run.width_mm)


def is_stale(run: Run) -> bool:
    """Whether a job has another size, or other panels, than when the run was laid out."""
    sizes = {p.id: p for p in pieces_of(run)}
    wanted = {(p.id, n) for p in sizes.values() for n in range(1, p.copies + 1)}
    if {(p["id"], p["copy"]) for p in run.places} != wanted:
        return True
    for place in run.places:
        piece = sizes[place["id"]]
        size = (piece.height, piece.width) if place["turned"] else (piece.width, piece.height)
        if max(abs(place["width"] - size[0]), abs(place["height"] - size[1])) > _SAME_MM:
            return True
    return False


def placed(run: Run, seconds: float = layout.SEARCHED) -> tuple[list[dict[str, Any]], bool]:
    """Places for all pieces of a run, and whether those that somebody chose were kept.

    What somebody laid by hand stays where it is as long as it fits; what is new follows behind it.
    """
    rules, pieces = run.laid_by, pieces_of(run)
    if run.by_hand and run.places:
        kept = _kept(run, pieces, rules)
        if kept is not None:
            return kept, True
    return [as_values(p) for p in layout.arrange(pieces, rules, run.width_mm, seconds)], False


def _kept(run: Run, pieces: list[Piece], rules: layout.Rules) -> list[dict[str, Any]] | None:
    before = {(p.id, p.copy): p for p in layout.placed_from(run.places)}
    stays: list[Placed] = []
    new: list[Piece] = []
    for piece in pieces:
        missing = 0
        for copy in range(1, piece.copies + 1):
            held = before.get((piece.id, copy))
            if held is None:
                missing += 1
                continue
            size = (piece.height, piece.width) if held.turned else (piece.width, piece.height)
            stays.append(replace(held, width=size[0], height=size[1]))
        if missing:
            new.append(replace(piece, copies=missing))
    try:
        layout.check_places(stays, rules, run.width_mm)
        if new:
            end = layout.run_of(stays, replace(rules, line=False), run.width_mm).length - rules.edge
            down = end + rules.gap - rules.advance - rules.edge if stays else 0.0
            first = {piece.id: piece.copies for piece in new}
            whole = {piece.id: piece.copies for piece in pieces}
            for p in layout.arrange(new, rules, run.width_mm):
                copy = whole[p.id] - first[p.id] + p.copy
                stays.append(replace(p, y=p.y + down, copy=copy))
        layout.check_places(stays, rules, run.width_mm)
    except BadInput:
        return None
    return [as_values(p) for p in stays]


def as_values(piece: Placed) -> dict[str, Any]:
    """A place as plain values."""
    return {
        "id": piece.id,
        "copy": piece.copy,
        "x": round(piece.x, 3),
        "y": round(piece.y, 3),
        "width": round(piece.width, 3),
        "height": round(piece.height, 3),
        "turned": piece.turned,
    }
