"""The light table: one job, looked at, changed and prepared."""

from __future__ import annotations

import json
from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.background import work
from greyanchor.background.parts import last_shown
from greyanchor.core.colour.colorimetry import lab_to_srgb
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.default_sources import NAMES
from greyanchor.core.separation.link import INTENTS
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import jobs, outcomes, preparing, rasters
from greyanchor.printroom.links import fingerprint, inks_of, sources_for
from greyanchor.printroom.models import Job, PrintFile
from greyanchor.printroom.nudges import repeated
from greyanchor.printroom.recipes import spot_facts, spots_of
from greyanchor.profiles.models import AimRecord

VIEWS = (
    ("art", "As it comes"),
    ("print", "As printed"),
    ("difference", "Difference"),
    ("ink", "Ink in all"),
    ("plane", "One ink"),
    ("resolution", "Resolution"),
    ("contours", "Contours"),
)
_COLOUR_SWITCHES = (
    ("black_point", "Black point compensation"),
    ("keep_black", "Black stays black ink"),
    ("keep_pure", "Pure C, M and Y stay pure"),
    ("press_paper", "With the paper of the other press"),
)
_NUMBERS = ("width_mm", "margin_mm", "overlap_mm", "lightness", "contrast")
_WHOLE = ("copies", "panels", "quarters")
_SWITCHES = ("mirrored", "black_point", "keep_black", "keep_pure", "press_paper")


def _job(pk: int) -> Job:
    wanted = Job.objects.select_related(
        "artwork", "mode__printer", "mode__media__media_class", "mode__ink_set"
    )
    return get_object_or_404(wanted, pk=pk)


@require_GET
def job_page(request: HttpRequest, pk: int) -> HttpResponse:
    """The light table."""
    job = _job(pk)
    choices = chosen.of_job(job)
    ready = bool(job.artwork.raster)
    picture = rasters.level(job.artwork, job.page, 0) if ready else None
    inks: tuple[str, ...] = ()
    trouble = ""
    if job.mode is not None:
        try:
            inks = inks_of(job.mode).channels
        except BadInput as error:
            trouble = error.sentence
    view = request.GET.get("view", "print")
    page = job.artwork.pages[job.page - 1] if job.artwork.pages else {}
    size, printed = preparing.size_mm(job), outcomes.printed_mm(job)
    planes = [
        (i.role, i.channel, choices[i.role])
        for i in (job.mode.ink_set.planes if job.mode else ())
        if i.role in ("white", "varnish")
    ]
    context = {
        "job": job,
        "choices": choices,
        "page": page,
        "views": VIEWS,
        "view": view if view in dict(VIEWS) else "print",
        "ink": request.GET.get("ink", inks[0] if inks else ""),
        "inks": inks,
        "alone": [*inks, *(channel for role, channel, place in planes if place)],
        "trouble": trouble,
        "picture": picture,
        "tile": rasters.TILE,
        "levels": rasters.levels(picture.width, picture.height) if picture else 0,
        "stamp": fingerprint(
            spot_facts(job.artwork, job.page, job.mode),
            job.artwork.sha256,
            job.page,
            choices,
            job.mode_id,
            getattr(job.mode, "version", 0),
        ),
        "size": size,
        "printed": printed,
        "effective": _effective(page, size),
        "intents": INTENTS,
        "is_page_file": job.artwork.kind in ("PDF", "PostScript"),
        "spots": _spots(job),
        "sources": sources_for(picture.kind) if picture and picture.profile is None else [],
        "taken_for": NAMES[picture.kind] if picture else "",
        "turns": ((0, "no"), (1, "a quarter"), (2, "half"), (3, "three quarters")),
        "switches": _COLOUR_SWITCHES,
        "planes": planes,
        "places": list(chosen.PLACES.items()),
        "switched_on": [name for name, _ in _COLOUR_SWITCHES if choices[name]],
        "nudged": [(i, f"{100.0 * choices['inks'].get(i, 0.0):g}") for i in inks],
        "presses": AimRecord.objects.filter(kind=AimRecord.Kind.PROFILE).only("name", "edition"),
        "changed": sorted(job.choices),
        "files": job.print_files.defer("choices")[:8],
        "panels": _panels(job, choices, size[0]),
        "media_width": job.mode.media.width_mm if job.mode else None,
    }
    return render(request, "printroom/light_table.html", context)


def _spots(job: Job) -> list[dict[str, Any]]:
    """Spot colours of the page, with the recipe of each on the job's mode."""
    if not job.artwork.pages:
        return []
    channels = inks_of(job.mode).channels if job.mode is not None and job.mode.profile_id else ()
    rows = []
    for spot in spots_of(job.artwork, job.page, job.mode):
        recipe = []
        if spot.ink is not None:
            recipe = [(c, 100.0 * v) for c, v in zip(channels, spot.ink.device[-1]) if v >= 0.005]
        rows.append(
            {"spot": spot, "recipe": recipe, "colour": _hex(list(spot.colour.lab)) if spot.colour else ""}
        )
    return rows


def _effective(page: dict[str, Any], size: tuple[float, float]) -> float | None:
    """The coarsest picture's resolution at the size that the job prints it."""
    if not page.get("pictures") or not size[0]:
        return None
    return min(p[4] for p in page["pictures"]) * page["width_mm"] / size[0]


def _panels(job: Job, choices: dict[str, Any], width: float) -> list[dict[str, Any]]:
    if int(choices["panels"]) < 2 or not width:
        return []
    try:
        parts = chosen.panels_of(choices, width)
    except BadInput:
        return []
    off = choices["panels_off"]
    return [{"number": i + 1, "width": p[2] * width, "on": i + 1 not in off} for i, p in enumerate(parts)]


@require_GET
def job_outcome(request: HttpRequest, pk: int) -> HttpResponse:
    """What will come out: this job on its mode."""
    job = _job(pk)
    if job.mode is None:
        return render(request, "printroom/_outcome.html", {"job": job})
    try:
        found = outcomes.outcome(job, job.mode)
    except BadInput as error:
        return render(request, "printroom/_outcome.html", {"job": job, "trouble": error.sentence})
    shape = chosen.shape_of(chosen.of_job(job), job.page)
    worst = [
        {
            **w,
            "asked_colour": _hex(w["asked"]),
            "printed_colour": _hex(w["printed"]),
            "on_page": json.dumps([shape.on_page(p) for p in w["places"]]),
        }
        for w in found.facts["worst"]
    ]
    return render(request, "printroom/_outcome.html", {"job": job, "found": found, "worst": worst})


def _hex(lab: list[float]) -> str:
    red, green, blue = (round(255 * float(v)) for v in lab_to_srgb([lab])[0])
    return f"#{red:02x}{green:02x}{blue:02x}"


@require_GET
def job_modes(request: HttpRequest, pk: int) -> HttpResponse:
    """This job on each mode it could go through."""
    job = _job(pk)
    found = outcomes.ranked(job, outcomes.candidates(job))
    priced = any(f.cost is not None for f in found)
    return render(request, "printroom/_modes.html", {"job": job, "found": found, "priced": priced})


@require_GET
def mode_nudges(request: HttpRequest, pk: int) -> HttpResponse:
    """What the newest jobs of a mode share, for the mode's page; nothing where they share nothing."""
    mode = get_object_or_404(PrintMode, pk=pk)
    return render(request, "printroom/_nudges.html", {"found": repeated(mode), "mode": mode})


def _back(request: HttpRequest, job: Job) -> HttpResponseRedirect:
    """To the light table as it was looked at."""
    address = reverse("job", args=[job.pk])
    view = request.POST.get("view", "")
    return redirect(f"{address}?view={view}" if view in dict(VIEWS) else address)


def _version(request: HttpRequest) -> int:
    text = request.POST.get("version", "")
    return int(text) if text.isdecimal() and len(text) < 10 else 0


def _values(request: HttpRequest) -> dict[str, Any]:
    """What a form of the light table chose: only what it holds; a switch is there by its hidden partner."""
    sent, found = request.POST, {}
    for name in _NUMBERS:
        if name in sent:
            text = sent.get(name, "").strip()
            found[name] = parse_number(text) if text else chosen.USUAL[name]
    for name in _WHOLE:
        if name in sent:
            number = parse_number(sent.get(name, "") or str(chosen.USUAL[name]))
            if number != int(number):
                raise BadInput(f"{name} is a whole number, not {number:g}")
            found[name] = int(number)
    for name in _SWITCHES:
        if f"has_{name}" in sent:
            found[name] = name in sent
    found |= {name: sent[name] for name in ("intent", "picture_intent", "white", "varnish") if name in sent}
    for name in ("press", "source"):
        if name in sent:
            found[name] = int(sent[name]) if sent[name].isdecimal() else None
    inks = {k[4:]: parse_number(v) / 100.0 for k, v in sent.items() if k.startswith("ink_") and v.strip()}
    if "has_inks" in sent:
        found["inks"] = {k: v for k, v in inks.items() if v}
    if "has_panels_off" in sent:
        on = {int(v) for v in sent.getlist("panel") if v.isdecimal()}
        count = int(sent.get("panel_count", "0") or 0)
        found["panels_off"] = [i for i in range(1, min(count, chosen.MOST_PANELS) + 1) if i not in on]
    return found


@takes(USE)
@require_POST
def job_change(request: HttpRequest, pk: int) -> HttpResponse:
    """Size, colour, panels, or another mode."""
    job = _job(pk)
    try:
        number = request.POST.get("mode", "")
        mode = get_object_or_404(PrintMode, pk=int(number)) if number.isdecimal() else None
        jobs.change(job, _values(request), _version(request), mode)
    except BadInput as error:
        messages.error(request, error.sentence)
    return _back(request, job)


@takes(USE)
@require_POST
def job_undo(request: HttpRequest, pk: int, way: str) -> HttpResponse:
    """Take the last change back, or bring it back."""
    job = _job(pk)
    try:
        (jobs.undo if way == "undo" else jobs.redo)(job, _version(request))
    except BadInput as error:
        messages.error(request, error.sentence)
    return _back(request, job)


@takes(USE)
@require_POST
def job_piece(request: HttpRequest, pk: int) -> HttpResponse:
    """A test piece: a rectangle of this job as a job of its own, or this job cropped to it."""
    job = _job(pk)
    try:
        left, top, wide, tall = (
            parse_number(request.POST.get(name, "")) for name in ("left", "top", "wide", "tall")
        )
        part = (left, top, wide, tall)
        if request.POST.get("as") == "crop":
            jobs.change(job, {"crop": [round(v, 6) for v in part]}, _version(request))
            return _back(request, job)
        made = jobs.cut_piece(job, part, request.user)  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return _back(request, job)
    messages.success(request, "The test piece is a job of its own, at true size.")
    return redirect("job", made.pk)


@takes(USE)
@require_POST
def job_prepare(request: HttpRequest, pk: int) -> HttpResponse:
    """Queue the preparing."""
    job = _job(pk)
    try:
        made = preparing.order_print_files(job, request.user)  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return _back(request, job)
    return redirect("print-file", made[0].pk)


def _record(pk: int) -> PrintFile:
    wanted = PrintFile.objects.select_related(
        "job__artwork", "run", "mode__printer", "mode__media", "started_by"
    )
    return get_object_or_404(wanted, pk=pk)


@require_GET
def print_file_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A print file: how it goes, what it was made of, and the print beside the artwork."""
    record = _record(pk)
    alike = PrintFile.objects.filter(job=record.job_id, run=record.run_id).exclude(pk=pk)
    context = {
        "file": record,
        "others": alike.defer("choices", "facts")[:12],
        "prints": record.prints.all()[:24],
    }
    return render(request, "printroom/print_file.html", context)


@require_GET
def print_file_part(request: HttpRequest, pk: int) -> HttpResponse:
    """How the preparing goes."""
    record = _record(pk)
    if record.is_active and not record.looks_dead:
        return render(request, "printroom/_preparing.html", {"file": record})
    said = (
        "Prepared." if record.state == PrintFile.State.DONE else f"{record.get_state_display().capitalize()}."
    )
    return last_shown(render(request, "printroom/_preparing.html", {"file": record}), said)


@takes(USE)
@require_POST
def print_file_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Stop the preparing, or go on with what was stopped."""
    record = _record(pk)
    try:
        if act == "stop":
            work.ask_to_stop(PrintFile, pk)
        else:
            preparing.go_on(record)
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("print-file", pk)
