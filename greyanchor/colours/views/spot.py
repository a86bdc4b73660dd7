"""The page of one spot colour: what it is, its recipes on modes, its neighbours, who uses it."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.colours import recipes
from greyanchor.colours.models import SpotRecipe
from greyanchor.colours.queries import used_by
from greyanchor.colours.views.spots import mode_asked, mode_choices, spot_rows
from greyanchor.core.charts.swatches import Steps, neighbours
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.recipes import OUT_OF_REACH, find_recipes
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.lights import reflectance_plot
from greyanchor.library.models import PrintMode
from greyanchor.profiles import spots
from greyanchor.profiles.models import SpotRecord
from greyanchor.profiles.queries import model_of


@require_GET
def spot_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A colour: what it is, its recipes on modes, the choices on one, its neighbours, who uses it."""
    record = get_object_or_404(SpotRecord.objects.select_related("library"), pk=pk)
    colour, mode = record.colour, mode_asked(request)
    near = [n for n in spots.nearest(colour.lab, 9) if n.pk != pk]
    context: dict[str, Any] = {
        "record": record,
        "colour": colour,
        "chip": hex_colours(np.array([colour.lab]))[0],
        "black": hex_colours(np.array([colour.over_black]))[0] if colour.over_black else "",
        "plot": reflectance_plot([(record.name, colour.spectrum)]) if colour.spectrum else "",
        "near": list(zip(near, hex_colours(np.array([n.lab for n in near]).reshape(-1, 3)))),
        "modes": mode_choices(),
        "mode": mode,
        "history": record.history.select_related("history_user")[:12],
        "rounds": SpotRecipe.objects.filter(colour=record).select_related("mode", "made_by")[:30],
        "used": used_by(record),
        "reach": OUT_OF_REACH,
    }
    if mode is not None:
        context |= _on_mode(record, mode, request)
    return render(request, "colours/spot_page.html", context)


def _on_mode(record: SpotRecord, mode: PrintMode, request: HttpRequest) -> dict[str, Any]:
    made = recipes.choices_of(mode, record)
    profile = recipes.profile_of(mode)
    steps = Steps()
    names, labs = neighbours(np.array(record.colour.lab), steps)
    found = find_recipes(model_of(profile), recipes.separation_of(profile), labs)
    side = 2 * steps.count + 1
    picked = request.GET.get("near", "")
    number = int(picked) if picked.isdecimal() and int(picked) < len(names) else None
    cells = [
        {"number": i, "name": names[i], "colour": c, "lab": labs[i], "out": bool(found.out_of_reach[i])}
        for i, c in enumerate(hex_colours(labs))
    ]
    planes = [
        {
            "lightness": float(labs[k * side * side, 0]),
            "rows": [cells[(k * side + j) * side : (k * side + j + 1) * side] for j in range(side)],
        }
        for k in range(side)
    ]
    return {
        "choices": [
            {"choice": c, "inks": [100.0 * v for v in c.inks], "text": ",".join(f"{v:.5f}" for v in c.inks)}
            for c in made
        ],
        "lights": list(made[0].lights) if made else [],
        "channels": profile.channels or list("CMYK"),
        "planes": planes,
        "middle": len(names) // 2,
        "picked": cells[number] if number is not None else None,
        "inside": int((~found.out_of_reach).sum()),
        "cells": len(cells),
        "row": spot_rows([record], mode)[0],
    }


@takes(MAKE)
@require_POST
def spot_choose(request: HttpRequest, pk: int) -> HttpResponse:
    """Print a colour with these inks from now on."""
    record, mode = get_object_or_404(SpotRecord, pk=pk), mode_asked(request)
    try:
        if mode is None:
            raise BadInput("choose a print mode first")
        inks = [float(v) for v in request.POST.get("inks", "").split(",") if v.strip()]
        made = recipes.choose(mode, record, inks, request.POST.get("note", ""), request.user)
        messages.success(request, f"{record.name} on {mode.name}: {made.miss:.2f} dE00 predicted.")
    except ValueError as error:
        messages.error(request, str(getattr(error, "sentence", "A recipe is numbers.")))
    return redirect(f"{reverse('spot', args=[pk])}?mode={mode.pk if mode else ''}")
