"""Screens enlarged: a dot, its rosette with others, the tones it can hold, and what decides that."""

from __future__ import annotations

import io
from dataclasses import replace
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, QueryDict
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_GET
from PIL import Image

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.halftone.rosettes import Asked, drift_over_metre, in_threes
from greyanchor.core.separation.halftone.screens import ScreenSpec, parse_screen
from greyanchor.core.separation.plates.looking import (
    COLOURS,
    dot_micrometres,
    dots_of,
    least_tone,
    levels_of,
    overlaid,
)
from greyanchor.core.separation.plates.making import lattices_of, warnings_of
from greyanchor.printroom.views.plates import DOTS, KINDS

_INKS = ("C", "M", "Y", "K")
_USUAL_ANGLES = {"C": 15.0, "M": 75.0, "Y": 0.0, "K": 45.0}
#: dots of the sheet that a picture shows, and pixels of a dot at most
_MOST_DOTS, _PIXELS = 600, 640
#: what the table compares
_LINES, _RESOLUTIONS = (
    (35.0, 45.0, 55.0, 60.0, 65.0, 85.0, 100.0, 133.0, 150.0),
    (720.0, 1440.0, 2400.0, 2880.0),
)


def asked(sent: QueryDict) -> dict[str, Any]:
    """What is to be shown. Raises `BadInput` for what cannot be."""
    kind = sent.get("kind") or "am"
    number = {
        name: parse_number(sent.get(name, "").strip() or usual)
        for name, usual in (("lpi", "60"), ("resolution", "1440"), ("tone", "30"), ("mm", "4"))
    }
    if not 100.0 <= number["resolution"] <= 9600.0 or not 0.0 <= number["tone"] <= 100.0:
        raise BadInput("a resolution lies between 100 and 9600 dpi, a tone between 0 and 100 %")
    if not 0.3 <= number["mm"] <= 20.0:
        raise BadInput("0.3 to 20 mm of a sheet are shown")
    parts = [f"lpi={number['lpi']:g}", f"dot={sent.get('dot') or 'round'}"] if kind != "blue-noise" else []
    if kind != "blue-noise" and sent.get("centre") == "hole":
        parts.append("centre=hole")
    if kind in ("blue-noise", "hybrid") and sent.get("smallest", "").isdecimal():
        parts.append(f"smallest={sent['smallest']}")
    spec = parse_screen(f"{kind}:{','.join(parts)}" if parts else kind)
    inks = [i for i in _INKS if i in sent.getlist("plate")] or (["K"] if "kind" in sent else list(_INKS))
    angles = {i: parse_number(sent.get(f"angle:{i}", "").strip() or f"{_USUAL_ANGLES[i]:g}") for i in _INKS}
    screens = {i: replace(spec, angle=angles[i]) for i in inks}
    lattices_of(screens, number["resolution"])  # refuses what the resolution cannot hold
    return {"spec": spec, "screens": screens, "angles": angles, "inks": inks, **number}


@require_GET
def screens_page(request: HttpRequest) -> HttpResponse:
    """A screen enlarged, alone and over others, with its figures."""
    trouble, found = "", None
    try:
        found = asked(request.GET)
    except BadInput as error:
        trouble = error.sentence
        found = asked(QueryDict())
    spec, resolution = found["spec"], found["resolution"]
    made = lattices_of(found["screens"], resolution)
    context = {
        **found,
        "trouble": trouble,
        "kinds": KINDS,
        "dots": DOTS,
        "all_inks": [(i, i in found["inks"], f"{found['angles'][i]:g}") for i in _INKS],
        "made": [
            (i, m, 100.0 * (m.frequency / spec.lines - 1.0), m.angle - found["angles"][i])
            for i, m in made.items()
        ],
        "drift": _drift(found["screens"], made, resolution),
        "levels": levels_of(spec, resolution),
        "least": 100.0 * least_tone(spec, resolution),
        "dot_um": dot_micrometres(spec, resolution, found["tone"] / 100.0),
        "place_um": 25_400.0 / resolution,
        "warnings": warnings_of(found["screens"], resolution),
        "table": _table(spec),
        "resolutions": _RESOLUTIONS,
        "picture": f"{reverse('screen-picture')}?{request.GET.urlencode()}",
    }
    return render(request, "printroom/screens.html", context, status=422 if trouble else 200)


def _drift(screens: dict[str, ScreenSpec], made: dict[str, Any], resolution: float) -> float | None:
    """By what share of a cell the rosette changes over a metre; None where three plates make none."""
    inks = list(made)
    threes = in_threes([Asked(screens[i].lines, screens[i].angle) for i in inks])
    return drift_over_metre([made[inks[i]] for i in threes[0]], resolution) if threes else None


def _table(spec: ScreenSpec) -> list[tuple[float, list[int]]]:
    """Tones of a cell by frequency and resolution."""
    if spec.kind == "blue-noise":
        return []
    return [(n, [levels_of(replace(spec, lines=n), r) for r in _RESOLUTIONS]) for n in _LINES]


@require_GET
def screen_picture(request: HttpRequest) -> HttpResponse:
    """PNG of the dots, each as large as can be shown."""
    try:
        found = asked(request.GET)
    except BadInput as error:
        raise Http404(error.sentence) from None
    resolution = found["resolution"]
    side = int(min(_MOST_DOTS, max(16, found["mm"] / 25.4 * resolution)))
    made = lattices_of(found["screens"], resolution)
    tones = dict.fromkeys(found["inks"], found["tone"] / 100.0)
    dots = dots_of(found["screens"], made, tones, resolution, side)
    drawn = Image.fromarray(overlaid(dots.astype(float), [COLOURS[i] for i in found["inks"]]))
    scale = max(1, _PIXELS // side)
    out = io.BytesIO()
    drawn.resize((side * scale, side * scale), Image.Resampling.NEAREST).save(out, format="PNG")
    answer = HttpResponse(out.getvalue(), content_type="image/png")
    answer["Cache-Control"] = "private, max-age=600"
    return answer
