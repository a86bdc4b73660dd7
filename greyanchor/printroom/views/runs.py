"""Runs: the list, the table that one is laid out on, and what is done with it."""

from __future__ import annotations

import io
import json
from typing import Any
from urllib.parse import urlencode

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.checks.models import Schedule
from greyanchor.checks.tolerance_sets import tolerance_choices
from greyanchor.core.charts.layout import METHODS
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.cutting.files import FORMS
from greyanchor.core.errors import BadInput
from greyanchor.core.layout import runs as layout
from greyanchor.core.layout.marks import Bar
from greyanchor.core.numbers import parse_number
from greyanchor.core.printing.handling import SETTINGS
from greyanchor.library.records.effective_settings import in_force
from greyanchor.printroom import run_cutting, run_pieces, run_preparing, runs
from greyanchor.printroom.links import fingerprint
from greyanchor.printroom.models import Job, Print, Run
from greyanchor.printroom.outcomes import minutes_of
from greyanchor.profiles.models import AimRecord

_PAGE = 48
#: how much of the media is shown at least, in widths of it
_SHOWN = 1.6
_RULE_NUMBERS = ("gap", "advance", "hem", "eyelets")
_RULE_SWITCHES = ("crop", "cutter", "line")
_MARKS = (
    ("crop", "Crop marks"),
    ("cutter", "Discs that a cutter finds again"),
    ("line", "A line with job, mode, edition, machine, media, inks and date"),
)


def _run(pk: int) -> Run:
    wanted = Run.objects.select_related(
        "mode__printer__site", "mode__media", "mode__ink_set", "mode__profile", "mode__preset", "made_by"
    )
    return get_object_or_404(wanted, pk=pk)


@require_GET
def run_list(request: HttpRequest) -> HttpResponse:
    """Runs, newest first, narrowed by words and state."""
    words, state = request.GET.get("q", "").strip()[:120], request.GET.get("state", "")
    found = Run.objects.select_related("printer", "mode", "made_by").defer(
        "undo", "redo", "mode__environment"
    )
    for word in words.split():
        found = found.filter(name__icontains=word)
    if state in Run.State.values:
        found = found.filter(state=state)
    page = Paginator(found, _PAGE).get_page(request.GET.get("page", "1"))
    context = {
        "page": page,
        "words": words,
        "state": state,
        "states": Run.State.choices,
        "address": urlencode({"q": words, "state": state}),
        "rows": [(run, _figures(run)) for run in page],
    }
    name = "printroom/_runs.html" if request.headers.get("HX-Target") == "runs" else "printroom/runs.html"
    return render(request, name, context)


def _figures(run: Run) -> dict[str, Any]:
    laid = run_pieces.drawn(run)
    minutes = minutes_of(run.mode, laid.width, laid.length)
    return {
        "metres": laid.length / 1000.0,
        "share": laid.share_used,
        "minutes": minutes,
        "pieces": sum(p.id != layout.STRIP for p in laid.pieces),
    }


@takes(USE)
@require_POST
def run_make(request: HttpRequest) -> HttpResponse:
    """Lay jobs on a new run, or on one that is being laid out."""
    numbers = [int(v) for v in request.POST.getlist("job") if v.isdecimal()]
    jobs = list(Job.objects.filter(pk__in=numbers).select_related("artwork", "mode__printer", "mode__media"))
    jobs.sort(key=lambda j: numbers.index(j.pk))
    onto = request.POST.get("run", "")
    try:
        if onto.isdecimal():
            run = runs.put_on(_run(int(onto)), jobs)
        else:
            run = runs.make(jobs, request.user)  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect(request.POST.get("back") if _is_ours(request.POST.get("back")) else "jobs")
    return redirect("run", run.pk)


def _is_ours(address: str | None) -> bool:
    return bool(address) and str(address).startswith("/") and not str(address).startswith("//")


@require_GET
def run_page(request: HttpRequest, pk: int) -> HttpResponse:
    """The run on the table."""
    return render(request, "printroom/run.html", _context(_run(pk)))


def _context(run: Run, trouble: str = "") -> dict[str, Any]:
    laid = run_pieces.drawn(run)
    figures = _figures(run)
    try:
        parts = run_pieces.parts_of(run)
        has_contours = run_cutting.has_contours(run)
        if run.state != Run.State.CLOSED and run_pieces.is_stale(run):
            trouble = trouble or "A job has another size by now. Lay it again, or it is when it is prepared."
        cuts = run_cutting.paths_of(run) if has_contours and run.cutting else []
    except BadInput as error:
        parts, has_contours, cuts, trouble = {}, False, [], trouble or error.sentence
    pieces = [_piece(run, p, parts) for p in laid.pieces]
    held = in_force(run.mode)
    # the media goes on behind the run, so that there is room to lay pieces
    shown = max(laid.length, _SHOWN * laid.width)
    file = run.print_files.first()
    return {
        "run": run,
        "trouble": trouble,
        "is_open": run.state == Run.State.OPEN,
        "laid": laid,
        "figures": figures,
        "pieces": pieces,
        "box": f"0 0 {shown:.1f} {laid.width:.1f}",
        "shown": shown,
        "place": f"matrix(0 -1 1 0 0 {laid.width:.3f})",
        "bars": [m for m in laid.marks if isinstance(m, Bar)],
        "discs": [m for m in laid.marks if not isinstance(m, Bar)],
        "paths": [("M" + " ".join(f"{x:.2f},{y:.2f}" for x, y in c.followed), c.kind) for c in cuts],
        "cut_metres": sum(c.length for c in cuts) / 1000.0,
        "stretch": 100.0 * max(1.0, shown / laid.width / 5.5),
        "table": {
            "gap": run.laid_by.gap,
            "around": run.laid_by.around,
            "edge": run.laid_by.edge,
            "advance": run.laid_by.advance,
            "width": run.width_mm,
            "tail": laid.length - max((b.y + b.height for b in laid.pieces), default=0.0),
        },
        "parts": run.parts.select_related("job__artwork"),
        "ways": layout.WAYS.items(),
        "sides": layout.ALIGNED,
        "cut_places": layout.CUTS.items(),
        "marks": [(key, words, getattr(run.laid_by, key)) for key, words in _MARKS],
        "rules": run.laid_by,
        "strips": [(s.name, s.title) for s in STRIPS.values() if not s.places],
        "methods": [(m.name, m.title) for m in METHODS.values()],
        "tolerances": tolerance_choices(),
        "aims": AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).only("name", "edition"),
        "can_carry_strip": run_pieces.can_carry_strip(run),
        "strip": run.strip or _usual_strip(run),
        "after": [
            (SETTINGS[key], run.after.get(key), held[key].text)
            for key in runs.AFTER
            if key in held
        ],
        "switches": [(key, words, bool(run.after.get(key))) for key, words in runs.SWITCHES.items()],
        "cutting": runs.CUTTING.items(),
        "has_contours": has_contours,
        "forms": FORMS,
        "file": file,
        "print": file.prints.first() if file else None,
        "others": Run.objects.filter(state=Run.State.OPEN, mode=run.mode_id).exclude(pk=run.pk)[:12],
        "addable": Job.objects.filter(mode=run.mode_id).exclude(on_runs__run=run).only("name")[:60],
    }  # fmt: skip


def _usual_strip(run: Run) -> dict[str, Any]:
    """What a strip would be held to, by the mode's schedule where it has one."""
    plan = Schedule.objects.filter(mode=run.mode_id).first()
    if plan is not None:
        return {
            "kind": "", "method": "strip", "tolerances": plan.tolerances, "aim": plan.aim_id,
            "corrected": plan.corrected,
        }  # fmt: skip
    aim = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).values_list("pk", flat=True).first()
    return {"kind": "", "method": "strip", "tolerances": "iso12647-7:2016", "aim": aim, "corrected": True}


def _piece(run: Run, placed: Any, parts: dict[str, run_pieces.Part]) -> dict[str, Any]:
    part = parts.get(placed.id)
    title = "Control strip" if placed.id == layout.STRIP else part.title if part else placed.id
    picture = ""
    if part is not None:
        picture = (
            f"{placed.id}-{int(placed.turned)}.png?{fingerprint(part.turned(placed.turned), part.job.page)}"
        )
    box = layout.box_of(placed, run.laid_by)
    return {"p": placed, "title": title, "picture": picture, "box": box, "turn": placed.id != layout.STRIP}


@require_GET
def run_piece(request: HttpRequest, pk: int, name: str, turned: str) -> HttpResponse:
    """A piece as its artwork asks for it, small."""
    run = _run(pk)
    try:
        part = run_pieces.parts_of(run)[name]
        seen = run_preparing.picture_of_piece(part, run.mode, turned == "1")
    except (BadInput, KeyError) as error:
        raise Http404("no picture") from error
    out = io.BytesIO()
    seen.save(out, format="PNG")
    return HttpResponse(
        out.getvalue(), content_type="image/png", headers={"Cache-Control": "private, max-age=86400"}
    )


@require_GET
def run_cut(request: HttpRequest, pk: int, form: str) -> HttpResponse:
    """The cut paths of a run as a file."""
    run = _run(pk)
    try:
        data = run_cutting.file_of(run, form)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("run", pk)
    return HttpResponse(
        data,
        content_type=FORMS[form],
        headers={"Content-Disposition": f'attachment; filename="run-{pk}-cut.{form}"'},
    )


# --- changing --------------------------------------------------------------------------------


def _version(sent: QueryDict) -> int:
    text = sent.get("version", "")
    return int(text) if text.isdecimal() and len(text) < 10 else 0


def _answer(request: HttpRequest, pk: int, trouble: str = "") -> HttpResponse:
    """The table again, in place where a script asked for it; what is in the way stands above it."""
    if request.htmx:  # type: ignore[attr-defined]
        return render(request, "printroom/_run.html", _context(_run(pk), trouble))
    if trouble:
        messages.error(request, trouble)
    return redirect("run", pk)


@takes(USE)
@require_POST
def run_change(request: HttpRequest, pk: int) -> HttpResponse:
    """How it is laid out, what goes with it, what happens after it."""
    run = _run(pk)
    try:
        runs.change(run, _values(run, request.POST), _version(request.POST))
    except BadInput as error:
        return _answer(request, pk, error.sentence)
    return _answer(request, pk)


def _values(run: Run, sent: QueryDict) -> dict[str, Any]:
    """What the form of the table chose."""
    rules: dict[str, Any] = {k: sent[k] for k in ("way", "align", "cut") if k in sent}
    rules |= {k: parse_number(sent[k]) if sent[k].strip() else 0.0 for k in _RULE_NUMBERS if k in sent}
    if not rules.get("hem", run.laid_by.hem):
        rules["eyelets"] = 0.0
    rules |= {k: k in sent for k in _RULE_SWITCHES}
    found: dict[str, Any] = {"rules": rules, "name": sent.get("name", ""), "goes": "goes" in sent}
    aim = sent.get("aim", "")
    found["strip"] = {
        "kind": sent.get("strip", ""),
        "method": sent.get("method", "strip"),
        "tolerances": sent.get("tolerances", ""),
        "aim": int(aim) if aim.isdecimal() else None,
        "corrected": "corrected" in sent,
    }
    after: dict[str, Any] = {k: parse_number(sent[k]) for k in runs.AFTER if sent.get(k, "").strip()}
    found["after"] = {**after, **{k: True for k in runs.SWITCHES if k in sent}}
    lines = {k: parse_number(sent[k]) for k in ("bleed", "double", "weed") if sent.get(k, "").strip()}
    found["cutting"] = {"what": sent.get("cutting", ""), **lines}
    fill = {k: parse_number(sent[k]) for k in ("share", "minutes") if sent.get(k, "").strip()}
    if "share" in fill:
        fill["share"] /= 100.0
    found["fill"] = fill
    found["copies"], found["turn"] = {}, {}
    for part in run.parts.all():
        text = sent.get(f"copies_{part.job_id}", "").strip()
        if text:
            number = parse_number(text)
            if number != int(number):
                raise BadInput(f"copies are a whole number, not {number:g}")
            found["copies"][part.job_id] = int(number)
            found["turn"][part.job_id] = f"turn_{part.job_id}" in sent
    return found


@takes(USE)
@require_POST
def run_places(request: HttpRequest, pk: int) -> HttpResponse:
    """Pieces laid by hand."""
    try:
        places = json.loads(request.POST.get("places", "[]"))
        if not isinstance(places, list) or not all(isinstance(p, dict) for p in places):
            raise BadInput("places are a list of pieces")
        runs.place(_run(pk), places, _version(request.POST))
    except ValueError as error:
        return _answer(request, pk, getattr(error, "sentence", "the places were not understood"))
    return _answer(request, pk)


@takes(USE)
@require_POST
def run_jobs(request: HttpRequest, pk: int) -> HttpResponse:
    """Put a job on the run, or take one off."""
    run, sent = _run(pk), request.POST
    try:
        if sent.get("off", "").isdecimal():
            runs.take_off(run, int(sent["off"]), _version(sent))
        elif sent.get("on", "").isdecimal():
            runs.put_on(run, [get_object_or_404(Job, pk=int(sent["on"]))], _version(sent))
    except BadInput as error:
        return _answer(request, pk, error.sentence)
    return _answer(request, pk)


@takes(USE)
@require_POST
def run_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Undo, lay again, copy, delete, wait to fill, prepare."""
    run, version = _run(pk), _version(request.POST)
    user: Any = request.user
    try:
        if act in ("undo", "redo"):
            runs.undo(run, version, act)
        elif act == "again":
            runs.lay_again(run, version)
        elif act == "copy":
            return redirect("run", runs.copy(run, user).pk)
        elif act == "remove":
            runs.remove(run)
            messages.success(request, f"{run.name} is forgotten; its jobs stay.")
            return redirect("runs")
        elif act == "wait":
            runs.wait_to_fill(run, version)
        elif act == "stop":
            runs.stop_waiting(run, version)
        else:
            record = run_preparing.order_run(run, user)
            return redirect("print-file", record.pk)
    except BadInput as error:
        return _answer(request, pk, error.sentence)
    return _answer(request, pk)


@takes(USE)
@require_POST
def print_rest(request: HttpRequest, pk: int) -> HttpResponse:
    """What a print that broke off did not finish, or some panels of it, as a run of its own."""
    record = get_object_or_404(Print.objects.select_related("print_file__run"), pk=pk)
    user: Any = request.user
    panel, job = request.POST.get("panel", ""), request.POST.get("job", "")
    try:
        run = record.print_file.run
        if panel.isdecimal() and job.isdecimal() and run is not None:
            made = runs.panels_again(run, int(job), [int(panel)], user)
        else:
            made = runs.rest_of(record, user)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("print", pk)
    return redirect("run", made.pk)
