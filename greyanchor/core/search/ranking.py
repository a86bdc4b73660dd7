"""Which print mode is the best for a job: a ranking whose every step can be reported."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

#: a calibration younger than this, days, counts in full
FRESH_DAYS = 30.0
#: one older than this counts for nothing
STALE_DAYS = 180.0
#: mean dE00 of a profile on unseen patches that counts for nothing
POOR_FIT = 2.0


@dataclass(frozen=True)
class Candidate:
    """What is known of a mode: speed in m2/h, age of calibration in days, fit in dE00, gamut in cubic Lab
    units.
    """

    key: int
    name: str
    own_media: bool
    verdict: str
    speed: float
    age_days: float | None = None
    fit: float | None = None
    gamut: float | None = None
    inherited: bool = False


@dataclass(frozen=True)
class Ranked:
    """A candidate with its score (0..1), the minutes it takes where an area was given, and the reasons."""

    candidate: Candidate
    score: float
    minutes: float | None
    reasons: list[str] = field(default_factory=list)


def rank(
    candidates: Sequence[Candidate],
    time_matters: float,
    area: float | None = None,
    minutes: float | None = None,
) -> list[Ranked]:
    """Candidates from the best to the last.

    `time_matters` goes from 0 (quality alone) to 1 (time alone). `area` is the job in m2; with `minutes`
    as the time there is, modes that take longer come after all that do not. A mode that fails its last
    check comes after those.
    """
    if not candidates:
        return []
    fastest = max(c.speed for c in candidates) or 1.0
    widest = max(c.gamut or 0.0 for c in candidates) or 1.0
    items = [_ranked(c, time_matters, fastest, widest, area) for c in candidates]

    def order(r: Ranked) -> tuple[bool, bool, float, str]:
        late = minutes is not None and r.minutes is not None and r.minutes > minutes
        if late:
            r.reasons.insert(0, f"takes longer than the {minutes:.0f} min there are")
        return (r.candidate.verdict == "fail", late, -r.score, r.candidate.name)

    return sorted(items, key=order)


def _ranked(c: Candidate, time_matters: float, fastest: float, widest: float, area: float | None) -> Ranked:
    reasons = []
    verdict = {"pass": 1.0, "fail": 0.0}.get(c.verdict, 0.4)
    reasons.append(
        {"pass": "passed its last check", "fail": "FAILS its last check"}.get(c.verdict, "was never checked")
    )
    fit = 0.5 if c.fit is None else max(0.0, 1.0 - c.fit / POOR_FIT)
    if c.fit is not None:
        reasons.append(f"profile true to {c.fit:.2f} dE00")
    gamut = (c.gamut or 0.0) / widest
    if c.gamut is not None:
        reasons.append(
            "widest gamut of these" if gamut == 1.0 else f"{100 * gamut:.0f} % of the widest gamut"
        )
    fresh = 0.0
    if c.age_days is not None:
        fresh = min(1.0, max(0.0, (STALE_DAYS - c.age_days) / (STALE_DAYS - FRESH_DAYS)))
        reasons.append(f"calibrated {c.age_days:.0f} days ago")
    quality = 0.4 * verdict + 0.2 * fit + 0.3 * gamut + 0.1 * fresh
    speed = c.speed / fastest
    took = None
    if area is not None and c.speed > 0:
        took = 60.0 * area / c.speed
        reasons.append(f"{took:.0f} min for {area:g} m²")
    else:
        reasons.append(f"{c.speed:.1f} m²/h")
    score = (1.0 - time_matters) * quality + time_matters * speed
    if not c.own_media:
        score *= 0.8
        reasons.append("made for another media of the class")
    if c.inherited:
        score *= 0.9
        reasons.append("is based on the fall-back of its class")
    return Ranked(c, score, took, reasons)
