"""Nudges that repeat: what jobs of one mode keep asking for is what the mode itself no longer gives."""

from __future__ import annotations

from dataclasses import dataclass

from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom.models import Job

#: newest jobs that are looked at, and how many of them must have been moved the same way
_LOOKED_AT, _AT_LEAST, _SHARE = 8, 3, 0.6
_WAYS = {
    "lightness": ("made lighter", "made darker", "L*"),
    "contrast": ("given more contrast", "given less contrast", "%"),
}


@dataclass(frozen=True)
class Repeated:
    """A nudge that jobs of a mode share.

    Attributes
    ----------
    words
        What was done: made lighter, given more C.
    jobs, of
        How many of the newest jobs.
    mean
        By how much, in `unit`.
    """

    words: str
    jobs: int
    of: int
    mean: float
    unit: str


def repeated(mode: PrintMode) -> list[Repeated]:
    """Nudges that the newest jobs of a mode share, made since it was released or calibrated; the commonest
    first.
    """
    found = Job.objects.filter(mode=mode, piece_of=None)
    since = max((t for t in (mode.released_at, mode.calibrated_at) if t), default=None)
    if since is not None:
        found = found.filter(made_at__gte=since)
    jobs = [chosen.of_job(j) for j in found.only("choices")[:_LOOKED_AT]]
    amounts = {name: [float(j[name]) for j in jobs] for name in _WAYS}
    for ink in sorted({i for j in jobs for i in j["inks"]}):
        amounts[ink] = [100.0 * float(j["inks"].get(ink, 0.0)) for j in jobs]
    out = []
    for name, values in amounts.items():
        more, less, unit = _WAYS.get(name, (f"given more {name}", f"given less {name}", "%"))
        for words, moved in ((more, [v for v in values if v > 0]), (less, [v for v in values if v < 0])):
            if len(moved) >= _AT_LEAST and len(moved) >= _SHARE * len(jobs):
                mean = sum(map(abs, moved)) / len(moved)
                out.append(Repeated(words, len(moved), len(jobs), mean, unit))
    return sorted(out, key=lambda r: -r.jobs)
