"""What is asked of the plates of a job, checked and completed: choices of the core, out of plain values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.artwork.page_plates import AS_FILED, OVERPRINTS
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.press_gain import PressGain, table_of
from greyanchor.core.errors import BadInput
from greyanchor.core.separation.halftone.clustered import check_period
from greyanchor.core.separation.halftone.screens import ScreenSpec, parse_screen
from greyanchor.core.separation.plates.making import PlateSettings
from greyanchor.core.separation.plates.screening import never_meeting, screens_of
from greyanchor.core.separation.plates.separations import Art
from greyanchor.core.separation.plates.trapping import Trap
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import files
from greyanchor.printroom.models import Job
from greyanchor.profiles.models import AimRecord

#: every choice with its usual value: screen of all plates, resolution where no film mode says it, profile of
#: the press, spot colours that fold, traps in points, and by ink angle, screen, choke, tones of the press
USUAL: dict[str, Any] = {
    "screen": "",
    "resolution": 1440.0,
    "press": None,
    "fold": [],
    "overprint": AS_FILED,
    "trap": 0.0,
    "angles": {},
    "screens": {},
    "choke": {},
    "gain": {},
    "increase": 0.0,
    "order": [],
    "negative": False,
    "mirrored": False,
    "marks": True,
}


def checked(values: Mapping[str, Any], mode: PrintMode | None) -> dict[str, Any]:
    """Choices that differ from the usual ones. Raises `BadInput` for one that cannot be."""
    unknown = sorted(set(values) - set(USUAL))
    if unknown:
        raise BadInput(f"plates have no choice called {unknown[0]}")
    found = {**USUAL, **values}
    trap_of(found)
    if found["overprint"] not in OVERPRINTS:
        raise BadInput(f"overprint is {', '.join(OVERPRINTS.values())}, not {found['overprint']!r}")
    if not 100.0 <= float(found["resolution"]) <= 9600.0:
        raise BadInput(f"a resolution of {found['resolution']:g} dpi is not possible; 100 to 9600 are")
    for screen in (screen_of(found, mode), *own_screens(found).values()):
        if screen.sizes > 1:
            raise BadInput("plates have one bit: leave drops out of the screen")
        if screen.kind in ("am", "hybrid"):
            check_period(screen.lines, resolution_of(found, mode))
    for ink, points in found["gain"].items():
        try:
            PressGain.of([(a, b) for a, b in points], float(found["increase"]))
        except BadInput as error:
            raise BadInput(f"{ink}: {error.reason}") from None
    for ink, angle in found["angles"].items():
        if not -360.0 <= float(angle) <= 360.0:
            raise BadInput(f"the angle of {ink}, {angle:g}, lies outside -360..360 degrees")
    return {k: v for k, v in found.items() if v != USUAL[k]}


def screen_of(choices: Mapping[str, Any], mode: PrintMode | None) -> ScreenSpec:
    """The screen of all plates, which the film mode was made with where none is chosen."""
    text = choices["screen"] or (str(mode.environment.get("screen", "")) if mode else "") or "am:lpi=60"
    return parse_screen(text)


def own_screens(choices: Mapping[str, Any]) -> dict[str, ScreenSpec]:
    """Screens of single plates that differ from the others'."""
    found = {}
    for ink, text in choices["screens"].items():
        try:
            found[ink] = parse_screen(str(text))
        except BadInput as error:
            raise BadInput(f"{ink}: {error.reason}") from None
    return found


def resolution_of(choices: Mapping[str, Any], mode: PrintMode | None) -> float:
    """Dots an inch of plates: the film mode's."""
    return float(mode.environment["resolution"]) if mode else float(choices["resolution"])


def trap_of(choices: Mapping[str, Any], lightness: Mapping[str, float] | None = None) -> Trap:
    """How plates meet; `lightness` is L* of inks' solids, which says what reaches under what."""
    choke = {k: float(v) for k, v in choices["choke"].items()}
    return Trap(float(choices["trap"]), choke, dict(lightness or {}))


def art_of(job: Job, choices: Mapping[str, Any]) -> Art:
    """The artwork of a job as it is separated: its size, part and turn; mirroring belongs to films."""
    page = chosen.of_job(job)
    record = AimRecord.objects.filter(pk=choices["press"]).first() if choices["press"] else None
    folded = set(choices["fold"])
    there = spots_there(job)
    return Art(
        Path(files.local(job.artwork.file)),
        chosen.shape_of({**page, "margin_mm": 0.0}, job.page),
        None if record is None else bytes(record.data),
        chosen.settings_of({**page, "lightness": 0.0, "contrast": 0.0, "inks": {}}, None),
        tuple(s for s in there if s not in folded) if folded else None,
        str(choices["overprint"]),
    )


def spots_there(job: Job) -> list[str]:
    """Spot colours of the job's page."""
    pages = job.artwork.pages
    return list(pages[job.page - 1].get("spots", {})) if 1 <= job.page <= len(pages) else []


def film_area(mode: PrintMode | None) -> np.ndarray[Any, Any] | None:
    """Dots that a film asks for (n,), fractions, for even dot percents; None without a film mode."""
    if mode is None or not mode.curves:
        return None
    curve = CurveSet.from_csv(mode.curves, f"curves of {mode.name}").outputs[0]
    return np.asarray(curve / max(float(curve[-1]), 1e-6))


def gain_of(choices: Mapping[str, Any], ink: str) -> PressGain:
    """What the press makes of an ink's dots, as chosen; one entry for ``*`` is for all that have none."""
    points = choices["gain"].get(ink) or choices["gain"].get("*") or []
    return PressGain.of([(a, b) for a, b in points], float(choices["increase"]))


def press_curve(gain: PressGain) -> np.ndarray[Any, Any]:
    """Dots of a plate (n,), fractions, for even tones."""
    return gain.plate_of(np.linspace(0.0, 100.0, 1025)) / 100.0


def settings_of(
    choices: Mapping[str, Any],
    mode: PrintMode | None,
    inks: Sequence[str],
    words: str = "",
    together: np.ndarray[Any, Any] | None = None,
    lightness: Mapping[str, float] | None = None,
) -> PlateSettings:
    """Everything the core needs to make plates of `inks`: `together` says how much each pair of them prints
    together, `lightness` how light their solids are.
    """
    area = film_area(mode)
    curves = {}
    for ink in inks:
        gain = gain_of(choices, ink)
        steps = [press_curve(gain)] if gain else []
        steps += [area] if area is not None else []
        if steps:
            curves[ink] = table_of(*steps)
    own = {k: v for k, v in own_screens(choices).items() if k in inks}
    angles = {k: float(v) for k, v in choices["angles"].items() if k in inks}
    return PlateSettings(
        resolution_of(choices, mode),
        screens_of(inks, screen_of(choices, mode), angles, together, own),
        curves,
        table_of(area) if area is not None else None,
        trap_of({**choices, "choke": {k: v for k, v in choices["choke"].items() if k in inks}}, lightness),
        bool(choices["negative"]),
        bool(choices["mirrored"]),
        words if choices["marks"] else None,
        tuple(choices["order"]),
        never_meeting(inks, together) if together is not None else frozenset(),
    )
