"""Pages of aims, spot colours and control strips."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib import messages
from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.checks.forms import AimForm
from greyanchor.core.charts import strips
from greyanchor.core.colour.colorimetry import xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.aims import substrate_corrected
from greyanchor.core.verification.groups import groups
from greyanchor.drawing.colours import hex_colours
from greyanchor.library.models import PrintMode
from greyanchor.profiles.aims import keep_aim
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.queries import aim_of, parsed
from greyanchor.profiles.services import sent_file

# --- aims --------------------------------------------------------------------------------------


@require_GET
def aim_list(request: HttpRequest) -> HttpResponse:
    aims = AimRecord.objects.defer("data").select_related("created_by").annotate(used=Count("checks"))
    return render(request, "checks/aim_list.html", {"aims": aims, "form": AimForm()})


@takes(MAKE)
@require_POST
def aim_add(request: HttpRequest) -> HttpResponse:
    """A new aim, or the next edition of one, from a file."""
    form = AimForm(request.POST)
    try:
        if not form.is_valid():
            raise BadInput("; ".join(f"{k}: {' '.join(map(str, v))}" for k, v in form.errors.items()))
        data, name = sent_file(request)
        made = keep_aim(form.cleaned_data["name"], data, name, form.cleaned_data["source"], request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was added.")
        return redirect("aims")
    messages.success(request, f"{made} was added. Checks made before keep the edition they were held to.")
    return redirect("aim", pk=made.pk)


@require_GET
def aim_page(request: HttpRequest, pk: int) -> HttpResponse:
    """What an aim asks for at the patches that matter, as it is and carried onto a mode's paper."""
    record = get_object_or_404(AimRecord.objects.select_related("created_by"), pk=pk)
    aim = aim_of(record)
    modes = (
        PrintMode.objects.exclude(profile=None)
        .select_related("profile")
        .defer("profile__data", "profile__fitted")
    )
    number = request.GET.get("mode", "")
    mode = (
        modes.filter(pk=int(number)).first() if number.isdecimal() else modes.filter(state="released").first()
    )
    context: dict[str, Any] = {
        "record": record,
        "aim": aim,
        "modes": modes,
        "mode": mode,
        "editions": AimRecord.objects.filter(name=record.name).defer("data"),
        "used": record.checks.select_related("mode").defer("readings", "result")[:8],
        "used_count": record.checks.count(),
        "spots": [
            {"spot": s, "colour": hex_colours(np.array([s.lab]))[0], "tints": sorted(s.tints)}
            for s in aim.spots.values()
        ],
    }
    if aim.profile is not None or aim.data is not None:
        context["patches"] = _key_rows(aim, mode)
    return render(request, "checks/aim_page.html", context)


def _key_rows(aim: Any, mode: PrintMode | None) -> list[dict[str, Any]]:
    try:
        chart = strips.of_kind("short")
        lab = aim.lab_where_known(chart)
    except BadInput:
        return []
    device = chart.values()
    known = ~np.isnan(lab[:, 0])
    paper = groups(device)["substrate"] & known
    corrected = None
    if mode is not None and mode.profile is not None and paper.any():
        white = xyz_to_lab(100.0 * parsed(mode.profile).white)
        corrected = np.full_like(lab, np.nan)
        bare = lab[paper].mean(axis=0)
        corrected[known] = substrate_corrected(lab[known], paper[known], bare, white, aim.darkest)
    return [
        {
            "device": 100.0 * device[i],
            "lab": lab[i],
            "colour": hex_colours(lab[i : i + 1])[0],
            "corrected": None if corrected is None else corrected[i],
            "corrected_colour": "" if corrected is None else hex_colours(corrected[i : i + 1])[0],
        }
        for i in np.flatnonzero(known)
    ]


@require_GET
def aim_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The file of an aim, as it came."""
    record = get_object_or_404(AimRecord, pk=pk)
    name = record.file_name or f"{record.name}-{record.edition}.txt"
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "-" for c in name)
    headers = {"Content-Disposition": f'attachment; filename="{plain}"'}
    return HttpResponse(bytes(record.data), content_type="application/octet-stream", headers=headers)


# --- spot colours ------------------------------------------------------------------------------


# --- control strips ----------------------------------------------------------------------------
