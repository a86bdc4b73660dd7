"""The page of metamerism."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from greyanchor.checks.models import Check
from greyanchor.colours import parting
from greyanchor.colours.models import LightPlace
from greyanchor.colours.views.spots import mode_choices
from greyanchor.core.characterization.metamerism import Coloured, Parting
from greyanchor.core.errors import BadInput
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.explained import Seen, light_colour_eye
from greyanchor.profiles.models import AimRecord, SpotLibrary, SpotRecord

_WORST = 12
_CHECKS = 30
#: dE00 of metamerism that people see side by side
_SEEN = 2.0


@require_GET
def parting_page(request: HttpRequest) -> HttpResponse:
    """Which colours of two sides part company, under which light, and by how much."""
    asked = [x for x in request.GET.getlist("light") if x] or list(parting.USUAL)
    context: dict[str, Any] = {
        "a": request.GET.get("a", ""),
        "b": request.GET.get("b", ""),
        "groups": _choices(),
        "lights": _lights(asked),
        "seen": _SEEN,
    }
    if context["a"] and context["b"]:
        try:
            first, second = parting.source(context["a"]), parting.source(context["b"])
            context |= {"first": first, "second": second}
            pair = parting.parting(first, second, asked)
            context |= _found(*pair, request.GET.get("pair", ""), asked)
            context["papers"] = [
                {"title": s.title, "bright": bright, "rows": rows}
                for s in (first, second)
                for bright, rows in [parting.papers(s)]
                if bright is not None
            ]
        except BadInput as error:
            context["error"] = error.sentence
    return render(request, "colours/parting_page.html", context)


def _lights(asked: list[str]) -> list[tuple[str, str, bool]]:
    places = [(f"place-{p.pk}", p.name) for p in LightPlace.objects.all() if p.newest]
    every = [*((name, name) for name in parting.CIE), *places]
    return [(key, title, key in asked) for key, title in every]


def _choices() -> list[tuple[str, list[tuple[str, str]]]]:
    checks = (
        Check.objects.filter(withdrawn="").select_related("mode").defer("readings", "result", "diagnosis")
    )
    spectral = SpotRecord.objects.exclude(spectrum=[])
    books = SpotLibrary.objects.filter(colours__in=spectral).distinct()
    return [
        ("Print modes", [(f"mode-{m.pk}", m.name) for m in mode_choices()]),
        ("Checks", [(f"check-{c.pk}", f"{c.title}, {c.made_at:%-d %b %Y}") for c in checks[:_CHECKS]]),
        ("Aims", [(f"aim-{a.pk}", str(a)) for a in AimRecord.objects.filter(kind="data").defer("data")]),
        ("Books of spot colours", [(f"book-{b.pk}", b.name) for b in books]),
        ("Spot colours", [(f"spot-{s.pk}", s.name) for s in spectral[:200]]),
    ]


def _found(
    first: Coloured, second: Coloured, found: Parting, picked: str, asked: list[str]
) -> dict[str, Any]:
    order = found.worst(_WORST)
    worst = found.worst_light
    light = parting.chosen(asked)[worst]
    number = int(picked) if picked.isdecimal() and int(picked) < len(found.names) else order[0]
    chips = [hex_colours(np.array(side.under(x))) for x in ("D50", light) for side in (first, second)]
    by_light = []
    for k, name in enumerate(found.lights):
        column = found.matched[:, k]
        at = int(column.argmax())
        by_light.append(
            {
                "name": name,
                "mean": float(column.mean()),
                "p95": float(np.percentile(column, 95)),
                "most": float(column.max()),
                "worst": found.names[at],
                "seen": int((column > _SEEN).sum()),
                "raw": float(found.differences[:, k].mean()),
            }
        )
    return {
        "found": found,
        "by_light": by_light,
        "worst_light": found.lights[worst],
        "parted": int((found.matched.max(axis=1) > _SEEN).sum()),
        "rows": [
            {
                "number": i,
                "name": found.names[i] or "paper",
                "chips": [(chips[0][i], chips[1][i]), (chips[2][i], chips[3][i])],
                "values": [float(v) for v in found.matched[i]],
                "most": float(found.matched[i].max()),
            }
            for i in order
        ],
        "picked": found.names[number] or "paper",
        "picture": light_colour_eye(
            [
                Seen(
                    x,
                    first.under(x)[number],
                    second.under(x)[number],
                    float(found.differences[number, k]),
                )
                for k, x in ((0, "D50"), (worst, light))
            ],
            first.spectra[number],
            second.spectra[number],
            ("this", "that"),
        ),
    }
