"""Modes side by side, and the best mode for a job."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from django.utils import timezone

from greyanchor.accounts.people import named
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.ink_use import ink_use
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SETTINGS, Held
from greyanchor.core.search.ranking import Candidate, Ranked, rank
from greyanchor.drawing.calibration import shape_plot
from greyanchor.drawing.gamuts import slice_picture
from greyanchor.library.models import Media, PrintMode
from greyanchor.library.records.effective_settings import in_force
from greyanchor.profiles.queries import gamut_of_profile

#: most modes side by side
MOST = 4
CUTS = (70.0, 50.0, 30.0)


@dataclass(frozen=True)
class Line:
    """One fact of every mode; `differs` when they are not anyway."""

    label: str
    cells: list[str]
    differs: bool
    unit: str = ""


@dataclass
class Comparison:
    """Modes side by side, in groups of lines, with their pictures."""

    modes: list[PrintMode]
    groups: list[tuple[str, list[Line]]] = field(default_factory=list)
    curves: str = ""
    cuts: list[str] = field(default_factory=list)


def _line(label: str, cells: list[str]) -> Line:
    return Line(label, cells, len(set(cells)) > 1)


def _number(value: float | None, digits: int, unit: str) -> str:
    return "–" if value is None else f"{value:.{digits}f} {unit}".strip()


def compare(pks: list[int]) -> Comparison:
    """Up to four modes side by side, in the order asked for; `BadInput` for fewer than two."""
    asked = list(dict.fromkeys(pks))
    if len(asked) < 2:
        raise BadInput("choose two to four print modes to compare")
    if len(asked) > MOST:
        raise BadInput(f"{MOST} print modes go side by side; {len(asked)} were chosen")
    found = {
        m.pk: m
        for m in PrintMode.objects.filter(pk__in=asked)
        .select_related(
            "printer__site", "ink_set", "media__media_class", "preset", "profile", "curve_set", "released_by"
        )
        .defer("profile__data", "profile__fitted", "profile__neutral")
    }
    modes = [found[pk] for pk in asked if pk in found]
    if len(modes) < 2:
        raise BadInput("one of these print modes is not there any more")
    made = Comparison(modes)
    made.groups = [
        ("What it is", _what(modes)),
        ("What it costs", _costs(modes)),
        ("Limits", _limits(modes)),
        ("Proof", _proof(modes)),
        ("Handling settings", _handling([in_force(m) for m in modes])),
    ]
    sets = {f"({i + 1})": CurveSet.from_csv(m.curves) for i, m in enumerate(modes) if m.curve_set}
    made.curves = shape_plot(sets) if sets else ""
    gamuts = [gamut_of_profile(m.profile) for m in modes if m.profile and m.profile.boundary]
    if gamuts:
        made.cuts = [slice_picture(gamuts[0], None, cut, gamuts[1:]) for cut in CUTS]
    return made


def _what(modes: list[PrintMode]) -> list[Line]:
    rows: list[tuple[str, list[str]]] = [
        ("State", [m.get_state_display() for m in modes]),
        ("Printer", [f"{m.printer.name}, {m.printer.site.name}" for m in modes]),
        ("Ink set", [m.ink_set.name for m in modes]),
        ("Media", [m.media.name for m in modes]),
        ("Preset", [m.preset.name if m.preset else "–" for m in modes]),
        ("Resolution", [f"{m.environment.get('resolution', '–')} dpi" for m in modes]),
        (
            "Passes",
            [f"{m.environment.get('passes', '–')}, {m.environment.get('direction', '')}" for m in modes],
        ),
        ("Halftone", [str(m.environment.get("halftone", "–")) for m in modes]),
    ]
    return [_line(*row) for row in rows]


def _costs(modes: list[PrintMode]) -> list[Line]:
    uses = [
        ink_use(m.limits, m.total_ink, CurveSet.from_csv(m.curves) if m.curve_set else None)
        if m.limits
        else None
        for m in modes
    ]
    return [
        _line("Speed", [_number(m.speed, 1, "m²/h") for m in modes]),
        _line("Ink at most", [_number(u.most if u else None, 1, "ml/m²") for u in uses]),
        _line("Ink of even tints", [_number(u.tints if u else None, 1, "ml/m²") for u in uses]),
    ]


def _limits(modes: list[PrintMode]) -> list[Line]:
    channels = list(dict.fromkeys(c for m in modes for c in m.limits))
    lines = [_line(c, [_number(m.limits.get(c), 1, "%") for m in modes]) for c in channels]
    return [*lines, _line("Total ink", [_number(m.total_ink, 0, "%") for m in modes])]


def _proof(modes: list[PrintMode]) -> list[Line]:
    def of(m: PrintMode, *path: str) -> float | None:
        found: Any = m.profile.report if m.profile else None
        for name in path:
            found = found.get(name) if isinstance(found, dict) else None
        return found if isinstance(found, int | float) else None

    now = timezone.now()
    words = {"pass": "pass", "fail": "FAIL"}
    return [
        _line("Last check", [words.get(m.last_verdict, "no check") for m in modes]),
        _line("Profile on unseen patches", [_number(of(m, "held_out", "mean"), 2, "dE00") for m in modes]),
        _line("Round trip", [_number(of(m, "round_trip", "mean"), 2, "dE00") for m in modes]),
        _line(
            "Gamut",
            [
                _number(None if (v := of(m, "gamut_volume")) is None else v / 1000, 0, "thousand")
                for m in modes
            ],
        ),
        _line(
            "Calibrated",
            [f"{(now - m.calibrated_at).days} days ago" if m.calibrated_at else "–" for m in modes],
        ),
        _line("Released by", [named(m.released_by) if m.released_by else "–" for m in modes]),
    ]


def _handling(held: list[dict[str, Held]]) -> list[Line]:
    keys = [k for k in SETTINGS if any(k in h for h in held)]
    return [_line(SETTINGS[k].title, [h[k].text if k in h else "–" for h in held]) for k in keys]


# --- the best mode for -----------------------------------------------------------------------


def best_for(
    media: Media, time_matters: float, area: float | None, minutes: float | None
) -> list[tuple[Ranked, PrintMode]]:
    """Released modes for a media, or for its class where there are none of its own, ranked with reasons."""
    released = PrintMode.objects.filter(state=PrintMode.State.RELEASED).select_related(
        "printer__site", "media", "profile"
    )
    ready = released.defer(
        "profile__data", "profile__fitted", "profile__boundary", "profile__neutral", "note", "readings"
    )
    modes = {m.pk: m for m in ready.filter(media__media_class=media.media_class)[:400]}
    own = {pk: m for pk, m in modes.items() if m.media_id == media.pk}
    chosen = own or modes
    ranked = rank([_candidate(m, media) for m in chosen.values()], time_matters, area, minutes)
    return [(r, chosen[r.candidate.key]) for r in ranked]


def _candidate(mode: PrintMode, media: Media) -> Candidate:
    report = mode.profile.report if mode.profile else {}
    age = (timezone.now() - mode.calibrated_at).total_seconds() / 86400 if mode.calibrated_at else None
    return Candidate(
        mode.pk,
        mode.name,
        mode.media_id == media.pk,
        mode.last_verdict,
        mode.speed or 0.0,
        age,
        (report.get("held_out") or {}).get("mean"),
        report.get("gamut_volume"),
        bool(mode.inherited),
    )
