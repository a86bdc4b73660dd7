"""Spot colours."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.last_used import opens_with
from greyanchor.accounts.roles import MAKE, takes
from greyanchor.checks.forms import SpotForm, checkable_modes
from greyanchor.checks.strip_prints import recipes_on
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.recipes import OUT_OF_REACH
from greyanchor.core.verification.spots import SpotColour, from_file
from greyanchor.drawing.colours import hex_colours
from greyanchor.profiles.aims import keep_spots, remove_spot, save_spot
from greyanchor.profiles.models import Profile, SpotRecord
from greyanchor.profiles.services import sent_file


def _likely_mode() -> dict[str, Any]:
    """The mode that was released last among those that can print a recipe."""
    newest = (
        checkable_modes().exclude(profile=None).filter(state="released").order_by("-pk").only("pk").first()
    )
    return {"mode": newest.pk} if newest else {}


@require_GET
@opens_with("spot colours", _likely_mode)
def spot_list(request: HttpRequest) -> HttpResponse:
    """The library of spot colours, and what a mode makes of each."""
    records = list(SpotRecord.objects.all()[:400])
    modes = (
        checkable_modes()
        .exclude(profile=None)
        .select_related("profile")
        .defer("profile__data", "profile__fitted")
    )
    number = request.GET.get("mode", "")
    mode = modes.filter(pk=int(number)).first() if number.isdecimal() else None
    context: dict[str, Any] = {
        "form": SpotForm(),
        "modes": modes,
        "mode": mode,
        "reach": OUT_OF_REACH,
        "rows": _spot_rows(records, mode.profile if mode else None),
    }
    if mode is not None:
        misses = [r["miss"] for r in context["rows"] if r["miss"] is not None]
        context["summary"] = {
            "count": len(misses),
            "far": sum(m > OUT_OF_REACH for m in misses),
            "largest": max(misses, default=None),
            "mean": float(np.mean(misses)) if misses else None,
        }
    return render(request, "checks/spot_list.html", context)


def _spot_rows(records: list[SpotRecord], profile: Profile | None) -> list[dict[str, Any]]:
    colours = [r.colour for r in records]
    asked = hex_colours(np.array([c.lab for c in colours]).reshape(-1, 3))
    found = recipes_on(profile, colours) if profile is not None and colours else None
    nearest = hex_colours(found.lab) if found is not None else []
    rows = []
    for i, record in enumerate(records):
        row: dict[str, Any] = {
            "record": record,
            "colour": asked[i],
            "tints": sorted(float(t) for t in record.tints),
            "miss": None,
        }
        if found is not None:
            row |= {
                "inks": 100.0 * found.inks[i],
                "lab": found.lab[i],
                "nearest": nearest[i],
                "miss": float(found.misses[i]),
            }
        rows.append(row)
    return rows


@takes(MAKE)
@require_POST
def spot_import(request: HttpRequest) -> HttpResponse:
    """Colours from CxF/X-4, another CxF3 file, CSV or CGATS text; names that are there are left alone unless
    asked.
    """
    try:
        data, name = sent_file(request)
        found = keep_spots(
            from_file(data, name), f"file {name}", request.user, bool(request.POST.get("replace"))
        )
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was imported.")
        return redirect("spots")
    words = {
        "added": "added",
        "replaced": "replaced",
        "left": "left as they were, because their names are taken",
        "alike": "were there alike",
    }
    parts = [f"{len(names)} {words[what]}" for what, names in found.items() if names]
    messages.success(request, f"Spot colours: {'; '.join(parts)}.")
    return redirect("spots")


@takes(MAKE)
@require_POST
def spot_save(request: HttpRequest) -> HttpResponse:
    """One colour by hand."""
    form = SpotForm(request.POST)
    if not form.is_valid():
        messages.error(request, "; ".join(f"{k}: {' '.join(map(str, v))}" for k, v in form.errors.items()))
        return redirect("spots")
    d = form.cleaned_data
    if SpotRecord.objects.filter(name__iexact=d["name"]).exists():
        messages.error(request, f"There is a spot colour called {d['name']} already. Nothing was saved.")
        return redirect("spots")
    save_spot(
        SpotRecord(name=d["name"]),
        SpotColour(d["name"], (d["lightness"], d["a"], d["b"])),
        "by hand",
        request.user,
    )
    messages.success(request, f"{d['name']} was added.")
    return redirect("spots")


@takes(MAKE)
@require_POST
def spot_remove(request: HttpRequest, pk: int) -> HttpResponse:
    name = remove_spot(get_object_or_404(SpotRecord, pk=pk), request.user)
    messages.info(request, f"{name} was removed. Checks keep the colours they were held to.")
    return redirect("spots")
