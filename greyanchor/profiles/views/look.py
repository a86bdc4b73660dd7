"""Looking at a profile: its gamut in space and cut, where it errs, and how it would print pictures."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET
from PIL import Image

from greyanchor.background.cache import kept
from greyanchor.core.characterization.model import FitReport
from greyanchor.core.colour.colorimetry import lab_to_srgb
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.profiling import maps, softproof
from greyanchor.core.profiling.gamut import Gamut, share_inside
from greyanchor.core.verification.generic_aims import COATED
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.errors import fit_picture, leaf_picture, round_trip_picture
from greyanchor.drawing.gamuts import slice_picture
from greyanchor.profiles import queries
from greyanchor.profiles.forms import CompareForm
from greyanchor.profiles.models import Profile
from greyanchor.profiles.views.profiles import profile_of

AIM = COATED.title
_PLANES = (80, 65, 50, 35, 20)
_WORST = 12
#: round trips farther off than this (dE00) are drawn black
_BLACK_AT = 1.5
_DOTS = 2000


def _chosen(request: HttpRequest, profile: Profile) -> tuple[list[tuple[str, Gamut]], CompareForm]:
    """This profile's gamut, the aim's unless it is left out, and that of another profile where one is asked
    for.
    """
    form = CompareForm(
        request.GET, profiles=Profile.objects.defer("data", "fitted", "neutral").exclude(pk=profile.pk)
    )
    gamuts = [(profile.title, queries.gamut_of_profile(profile))]
    if request.GET.get("aim", "1") != "0":
        gamuts.append((AIM, queries.generic_gamut()))
    other = form.cleaned_data["other"] if form.is_valid() else None
    if other is not None:
        gamuts.append((other.title, queries.gamut_of_profile(other)))
    return gamuts, form


@require_GET
def gamut_page(request: HttpRequest, pk: int) -> HttpResponse:
    profile = profile_of(pk)
    gamuts, form = _chosen(request, profile)
    context = {
        "profile": profile,
        "here": "gamut",
        "compare": form,
        "aim_name": AIM,
        "aim_shown": len(gamuts) > 1 and gamuts[1][0] == AIM,
        "rows": _figures(gamuts),
        "query": request.GET.urlencode(),
        **_cut(request, gamuts),
    }
    return render(request, "profiles/gamut_page.html", context)


def _figures(gamuts: list[tuple[str, Gamut]]) -> list[dict[str, Any]]:
    own = gamuts[0][1]
    return [
        {
            "title": title,
            "volume": gamut.volume,
            "lightest": gamut.lightest,
            "darkest": gamut.darkest,
            "inside": None if gamut is own else share_inside(own, gamut),
        }
        for title, gamut in gamuts
    ]


@require_GET
def gamut_cut(request: HttpRequest, pk: int) -> HttpResponse:
    """One cut, swapped in while its place is moved."""
    gamuts, _ = _chosen(request, profile_of(pk))
    return render(request, "profiles/_cut.html", _cut(request, gamuts))


def _number(request: HttpRequest, name: str, usual: float, low: float, high: float) -> float:
    try:
        return float(np.clip(parse_number(request.GET.get(name, str(usual))), low, high))
    except BadInput:
        return usual


def _cut(request: HttpRequest, gamuts: list[tuple[str, Gamut]]) -> dict[str, Any]:
    """The cuts at a lightness and at a hue, with the figures under them."""
    light, hue = _number(request, "light", 50, 2, 98), _number(request, "hue", 40, 0, 359)
    return {
        "light": light,
        "hue": hue,
        "flat": slice_picture(
            gamuts[0][1], gamuts[1][1] if len(gamuts) > 1 else None, light, [g for _, g in gamuts[2:]]
        ),
        "leaf": leaf_picture(gamuts, hue),
        "cut_rows": [(title, gamut.area(light), gamut.reach(hue)) for title, gamut in gamuts],
    }


@require_GET
def gamut_solids(request: HttpRequest, pk: int) -> JsonResponse:
    """Surfaces as L*, a*, b*, triangles and colours; chart patches as dots when asked for."""
    profile = profile_of(pk)
    gamuts, _ = _chosen(request, profile)
    solids = []
    for title, gamut in gamuts:
        vertices, faces = gamut.solid()
        solids.append(
            {
                "title": title,
                "vertices": np.round(vertices, 2).ravel().tolist(),
                "faces": faces.ravel().tolist(),
                "colours": np.round(lab_to_srgb(vertices), 4).ravel().tolist(),
            }
        )
    dots: dict[str, Any] = {}
    if request.GET.get("patches") == "1":
        lab = queries.read_lab(profile)[:_DOTS]
        dots = {
            "places": np.round(lab, 2).ravel().tolist(),
            "colours": np.round(lab_to_srgb(lab), 4).ravel().tolist(),
        }
    return JsonResponse({"solids": solids, "dots": dots})


@require_GET
def errors_page(request: HttpRequest, pk: int) -> HttpResponse:
    """Patches against the finished profile, worst first, and round trips."""
    profile = profile_of(pk)
    context = kept(("errors", profile.pk, profile.sha256), lambda: _errors_of(profile))
    return render(request, "profiles/errors_page.html", {"profile": profile, "here": "errors", **context})


def _errors_of(profile: Profile) -> dict[str, Any]:
    """Figures, pictures and the worst patches of a profile's errors."""
    readings, parsed = queries.readings_of(profile), queries.parsed(profile)
    found = maps.fit_map(parsed, readings, queries.read_lab(profile))
    read, predicted = hex_colours(found.read), hex_colours(found.predicted)
    worst = [
        {
            "id": found.ids[i],
            "inks": " ".join(f"{c} {100 * v:.0f}" for c, v in zip(readings.channels, readings.values()[i])),
            "read": found.read[i],
            "predicted": found.predicted[i],
            "off": found.differences[i],
            "read_colour": read[i],
            "predicted_colour": predicted[i],
        }
        for i in found.worst(_WORST)
    ]
    flat = len(readings.channels) < 3
    planes = (
        [] if flat else [round_trip_picture(v, *maps.round_trip_plane(parsed, v), _BLACK_AT) for v in _PLANES]
    )
    return {
        "worst": worst,
        "planes": planes,
        "black_at": _BLACK_AT,
        "fit": fit_picture(found, max(2.0, float(found.differences.max()))),
        "off": FitReport.of(found.differences),
        "count": len(readings),
    }


@require_GET
def proof_page(request: HttpRequest, pk: int) -> HttpResponse:
    """The test form and the ramps through every intent."""
    profile = profile_of(pk)
    intent = request.GET.get("intent", "perceptual")
    if intent not in softproof.INTENTS:
        raise Http404(f"no intent called {intent}")
    rows = softproof.ramps(queries.parsed(profile), intent)
    context = {
        "profile": profile,
        "here": "proof",
        "intent": intent,
        "intents": softproof.INTENTS,
        "rows": [{"name": r.name, "bands": int(r.bands.sum()), "flats": int(r.flats.sum())} for r in rows],
        "steps": softproof.RAMP_STEPS,
        "band": softproof.BAND,
    }
    return render(request, "profiles/proof_page.html", context)


_HIGH, _GAP = 26, 10


@require_GET
def proof_picture(request: HttpRequest, pk: int, what: str, intent: str) -> HttpResponse:
    """PNG of the test form or the ramps; ``source`` shows them before they are printed."""
    if intent not in (*softproof.INTENTS, "source"):
        raise Http404(f"no intent called {intent}")
    parsed = queries.parsed(profile_of(pk))
    picture = _ramps_picture(parsed, intent) if what == "ramps" else _form_picture(parsed, intent)
    out = io.BytesIO()
    Image.fromarray(np.round(255.0 * picture).astype(np.uint8)).save(out, format="PNG", optimize=True)
    return HttpResponse(
        out.getvalue(), content_type="image/png", headers={"Cache-Control": "private, max-age=600"}
    )


def _form_picture(parsed: Any, intent: str) -> np.ndarray:
    form = softproof.test_form(120)
    if intent == "source":
        return form
    lab = softproof.proof(parsed, form, intent, on_paper=intent == "absolute")
    return np.asarray(lab_to_srgb(lab.reshape(-1, 3))).reshape(form.shape)


def _ramps_picture(parsed: Any, intent: str) -> np.ndarray:
    """Every ramp as a strip; under it a track that is black where it jumps and hatched where it stands
    still.
    """
    strips = []
    for row in softproof.ramps(parsed, "relative" if intent == "source" else intent):
        colours = np.asarray(lab_to_srgb(row.source if intent == "source" else row.printed))
        wide = np.repeat(colours, 3, axis=0)
        track = np.full((len(wide), 3), 0.93)
        if intent != "source":
            flat, jump = np.repeat(row.flats, 3), np.repeat(row.bands, 3)
            track[flat & (np.arange(len(wide)) % 4 < 2)] = 0.45
            track[jump] = 0.0
        strips += [
            np.repeat(wide[None], _HIGH, axis=0),
            np.repeat(track[None], _GAP - 4, axis=0),
            np.full((4, len(wide), 3), 0.99),
        ]
    return np.vstack(strips)
