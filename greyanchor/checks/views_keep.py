"""Pages of aims, spot colours and control strips."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib import messages
from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.checks.forms import AimForm, SpotForm, checkable_modes
from greyanchor.checks.models import StripRecord
from greyanchor.checks.proving import StripChoice, keep_strip, recipes_on, strip_chart
from greyanchor.core.charts import sheets, strips
from greyanchor.core.colorimetry import xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.profiling.recipes import OUT_OF_REACH
from greyanchor.core.verification.aims import substrate_corrected
from greyanchor.core.verification.groups import groups
from greyanchor.core.verification.northlight import aim_lab
from greyanchor.core.verification.spots import SpotColour, from_file
from greyanchor.drawing.colours import hex_colours
from greyanchor.library.models import PrintMode
from greyanchor.profiles.aims import keep_aim, keep_spots, remove_spot, save_spot
from greyanchor.profiles.models import AimRecord, Profile, SpotRecord
from greyanchor.profiles.queries import aim_of, parsed
from greyanchor.profiles.roles import MAKE, takes
from greyanchor.profiles.services import content_of


def _file(request: HttpRequest) -> tuple[bytes, str]:
    sent = request.FILES.get("file")
    if sent is None:
        raise BadInput("choose a file first")
    return content_of(sent), str(sent.name)


# --- aims --------------------------------------------------------------------------------------


@require_GET
def aim_list(request: HttpRequest) -> HttpResponse:
    aims = AimRecord.objects.defer("data").select_related("created_by").annotate(used=Count("checks"))
    return render(request, "checks/aim_list.html", {"aims": aims, "form": AimForm(), "here": "aims"})


@takes(MAKE)
@require_POST
def aim_add(request: HttpRequest) -> HttpResponse:
    """A new aim, or the next edition of one, from a file."""
    form = AimForm(request.POST)
    try:
        if not form.is_valid():
            raise BadInput("; ".join(f"{k}: {' '.join(map(str, v))}" for k, v in form.errors.items()))
        data, name = _file(request)
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
        "record": record, "aim": aim, "here": "aims", "modes": modes, "mode": mode,
        "editions": AimRecord.objects.filter(name=record.name).defer("data"),
        "used": record.checks.select_related("mode").defer("readings", "result")[:8], "used_count": record.checks.count(),
        "spots": [
            {"spot": s, "colour": hex_colours(np.array([s.lab]))[0], "tints": sorted(s.tints)} for s in aim.spots.values()
        ],
    }  # fmt: skip
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
        corrected[known] = substrate_corrected(lab[known], paper[known], lab[paper].mean(axis=0), white)
    return [
        {
            "device": 100.0 * device[i], "lab": lab[i], "colour": hex_colours(lab[i : i + 1])[0],
            "corrected": None if corrected is None else corrected[i],
            "corrected_colour": "" if corrected is None else hex_colours(corrected[i : i + 1])[0],
        }
        for i in np.flatnonzero(known)
    ]  # fmt: skip


@require_GET
def aim_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The file of an aim, as it came."""
    record = get_object_or_404(AimRecord, pk=pk)
    name = record.file_name or f"{record.name}-{record.edition}.txt"
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "-" for c in name)
    headers = {"Content-Disposition": f'attachment; filename="{plain}"'}
    return HttpResponse(bytes(record.data), content_type="application/octet-stream", headers=headers)


# --- spot colours ------------------------------------------------------------------------------


@require_GET
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
        "form": SpotForm(), "modes": modes, "mode": mode, "here": "spots", "reach": OUT_OF_REACH,
        "rows": _spot_rows(records, mode.profile if mode else None),
    }  # fmt: skip
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
    """Colours from CxF/X-4, another CxF3 file, CSV or CGATS text; names that are there are left alone unless asked."""
    try:
        data, name = _file(request)
        told = keep_spots(
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
    parts = [f"{len(names)} {words[what]}" for what, names in told.items() if names]
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


# --- control strips ----------------------------------------------------------------------------


@require_GET
def strip_list(request: HttpRequest) -> HttpResponse:
    ours = [
        {"kind": s, "patches": len(s.patches()) * s.copies, "colours": hex_colours(_rough(s.name))}
        for s in strips.STRIPS.values()
    ]
    own = [{"record": r, "chart": r.chart} for r in StripRecord.objects.select_related("created_by")]
    return render(request, "checks/strip_list.html", {"ours": ours, "own": own, "here": "strips"})


def _rough(name: str) -> Any:
    return aim_lab(strips.STRIPS[name].patches())


@takes(MAKE)
@require_POST
def strip_add(request: HttpRequest) -> HttpResponse:
    """A strip of the shop from a file of patches, with the names of spot colours."""
    try:
        data, name = _file(request)
        made = keep_strip(request.POST.get("name", ""), data, name, request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was added.")
    else:
        messages.success(request, f"{made.name} can be printed now.")
    return redirect("strips")


@require_GET
def strip_file(request: HttpRequest, kind: str, form: str) -> HttpResponse:
    """A strip laid out, as TIFF, PDF or CGATS text, to print beside a job or alone."""
    choice = StripChoice(kind, request.GET.get("page", "a4"), request.GET.get("method", "strip"))
    try:
        chart = strip_chart(choice, title=f"control strip {kind}")
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("strips")
    if form == "txt":
        data, content = cgats.dumps(chart).encode(), "text/plain; charset=utf-8"
    else:
        draw, content = {"tif": (sheets.tiff, "image/tiff"), "pdf": (sheets.pdf, "application/pdf")}[form]
        data = draw(chart)
    headers = {"Content-Disposition": f'attachment; filename="strip-{kind.replace(":", "-")}.{form}"'}
    return HttpResponse(data, content_type=content, headers=headers)
