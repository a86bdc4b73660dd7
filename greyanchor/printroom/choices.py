"""What a job chooses, checked and completed: the choices of the core, out of plain values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.separation.link import INTENTS, LinkSettings, Nudge
from greyanchor.core.separation.printing import Shape
from greyanchor.printroom.models import Job, PrintFile
from greyanchor.profiles.models import AimRecord

#: every choice with its usual value; a job holds those that differ
USUAL: dict[str, Any] = {
    "width_mm": None,
    "crop": None,
    "quarters": 0,
    "mirrored": False,
    "copies": 1,
    "margin_mm": 0.0,
    "panels": 1,
    "overlap_mm": 0.0,
    "panels_off": [],
    "intent": "relative",
    "picture_intent": "",
    "black_point": True,
    "keep_black": False,
    "keep_pure": False,
    "source": None,
    "press": None,
    "press_paper": False,
    "lightness": 0.0,
    "contrast": 0.0,
    "inks": {},
    "white": "",
    "varnish": "",
}
#: where white and varnish are printed
PLACES = {"": "nowhere", "colour": "where there is colour", "page": "on the whole page"}
MOST_COPIES, MOST_PANELS = 1000, 40


def of_job(job: Job) -> dict[str, Any]:
    """All choices of a job, those that it did not make as they are usually."""
    return {**USUAL, **job.choices}


def of_print_file(record: PrintFile) -> dict[str, Any]:
    """All choices that a print file was made with; those that came later as they are usually."""
    return {**USUAL, **record.choices}


def checked(values: Mapping[str, Any]) -> dict[str, Any]:
    """Choices that differ from the usual ones. Raises `BadInput` for one that cannot be."""
    unknown = sorted(set(values) - set(USUAL))
    if unknown:
        raise BadInput(f"a job has no choice called {unknown[0]}")
    found = {**USUAL, **values}
    shape_of(found)
    settings_of(found, None)
    if not 1 <= int(found["copies"]) <= MOST_COPIES:
        raise BadInput(f"{found['copies']} copies cannot be printed; 1 to {MOST_COPIES} can")
    if not 1 <= int(found["panels"]) <= MOST_PANELS:
        raise BadInput(f"{found['panels']} panels are not possible; 1 to {MOST_PANELS} are")
    if not 0.0 <= float(found["overlap_mm"]) <= 500.0 or not 0.0 <= float(found["margin_mm"]) <= 500.0:
        raise BadInput("overlap and margin lie between 0 and 500 mm")
    for name in ("white", "varnish"):
        if found[name] not in PLACES:
            raise BadInput(f"{name} is printed {', '.join(PLACES.values())}, not {found[name]!r}")
    return {k: v for k, v in found.items() if v != USUAL[k]}


def shape_of(choices: Mapping[str, Any], page: int = 1) -> Shape:
    """What part is printed, and how large."""
    crop = choices["crop"]
    return Shape(
        page,
        choices["width_mm"],
        tuple(crop) if crop else None,
        int(choices["quarters"]),
        bool(choices["mirrored"]),
        float(choices["margin_mm"]),
    )


def settings_of(choices: Mapping[str, Any], press: AimRecord | None) -> LinkSettings:
    """How colours are converted."""
    for intent in (choices["intent"], choices["picture_intent"] or choices["intent"]):
        if intent not in INTENTS:
            raise BadInput(f"no rendering intent {intent!r}; there are {', '.join(INTENTS)}")
    return LinkSettings(
        choices["intent"],
        bool(choices["black_point"]),
        bool(choices["keep_black"]),
        bool(choices["keep_pure"]),
        None if press is None else press_profile(press),
        bool(choices["press_paper"]),
        Nudge(float(choices["lightness"]), float(choices["contrast"]), dict(choices["inks"])),
    )


def of_pictures(choices: Mapping[str, Any], settings: LinkSettings) -> LinkSettings | None:
    """How pictures on a page are converted where that differs from the rest: black that stays black ink is
    that of text and drawing.
    """
    intent = choices["picture_intent"] or settings.intent
    if intent == settings.intent and not (settings.keep_black or settings.keep_pure):
        return None
    return replace(settings, intent=intent, keep_black=False, keep_pure=False)


def press_profile(press: AimRecord) -> Any:
    """The profile of a press that jobs are printed as on."""
    from greyanchor.core.formats import icc

    if not icc.is_profile(bytes(press.data)):
        raise BadInput(f"{press.name} is characterization data; to print as on a press its profile is needed")
    return icc.loads(bytes(press.data), press.name)


def panels_of(choices: Mapping[str, Any], width_mm: float) -> list[tuple[float, float, float, float]]:
    """Parts of the page, in shares of it, one a panel, left to right: each overlaps the next."""
    left, top, wide, tall = choices["crop"] or (0.0, 0.0, 1.0, 1.0)
    count = int(choices["panels"])
    if count == 1:
        return [(left, top, wide, tall)]
    overlap = float(choices["overlap_mm"]) / max(width_mm, 1e-6)
    each = (wide + overlap * (count - 1)) / count
    if each <= overlap:
        raise BadInput(
            f"panels of {each * width_mm:.0f} mm would all be overlap: choose fewer, or less overlap"
        )
    return [(left + i * (each - overlap), top, each, tall) for i in range(count)]
