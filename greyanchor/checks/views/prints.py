"""Pages that make checks: from files, many at once, or from a strip printed here."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from greyanchor.checks import strip_prints
from greyanchor.checks.forms import FilesForm, StripForm
from greyanchor.checks.models import Check, CheckPrint, Schedule
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import readings_file
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.measuring.evidence import reopen_rows
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.prints import print_view
from greyanchor.measuring.services import start_pass
from greyanchor.measuring.views import take_file
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.services import small_content_of

MOST_FILES = 60


def _order(data: dict[str, Any], leave_out: bool = False) -> Order:
    spots = {s.name: s.colour for s in data["spots"]}
    return Order(data["aim"], data["tolerances"], data["corrected"], leave_out, spots, data["against"])


@require_http_methods(["GET", "POST"])
def check_new(request: HttpRequest) -> HttpResponse:
    """Verify readings from files: one leads to its check, many to a table of their verdicts."""
    form = FilesForm(request.POST or None, initial=_wishes(request))
    context: dict[str, Any] = {"form": form, "strip": StripForm(initial=_wishes(request), auto_id="strip_%s")}
    if request.method == "POST" and form.is_valid():
        files = request.FILES.getlist("files")
        if not 0 < len(files) <= MOST_FILES:
            form.add_error(None, f"Choose 1 to {MOST_FILES} files of readings; {len(files) or 'none'} came.")
        else:
            outcomes = [_one(sent, form.cleaned_data, request, len(files) > 1) for sent in files]
            if len(files) == 1 and outcomes[0]["check"]:
                return redirect("check", pk=outcomes[0]["check"].pk)
            if len(files) == 1:
                form.add_error(None, outcomes[0]["error"])
            else:
                context["outcomes"] = outcomes
                context["passed"] = sum(1 for o in outcomes if o["check"] and o["check"].verdict == "pass")
    return render(request, "checks/check_new.html", context, status=422 if form.errors else 200)


def _wishes(request: HttpRequest) -> dict[str, Any]:
    """What the address asks for, over the schedule of the mode, over what is usual."""
    usual = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).values_list("pk", flat=True).first()
    facts: dict[str, Any] = {"aim": usual, "tolerances": "iso12647-7:2016", "corrected": True, "kind": "full"}
    mode = request.GET.get("mode", "")
    if mode.isdecimal():
        facts["mode"] = int(mode)
        plan = Schedule.objects.filter(mode=int(mode)).first()
        if plan is not None:
            facts |= {
                "aim": plan.aim_id,
                "tolerances": plan.tolerances,
                "corrected": plan.corrected,
                "kind": plan.strip,
            }
    for name in ("aim", "tolerances", "kind", "through"):
        if request.GET.get(name):
            facts[name] = request.GET[name]
    return facts


def _one(sent: Any, data: dict[str, Any], request: HttpRequest, many: bool) -> dict[str, Any]:
    """What became of one file: its check, or why there is none."""
    name = str(sent.name)
    try:
        readings: ReadingSet = readings_file.loads(small_content_of(sent), name)
        title = (
            f"{data['name']}: {Path(name).stem}" if data["name"] and many else data["name"] or Path(name).stem
        )
        subject = Subject(data["mode"], None, data["printer"], None, title, f"file {name}")
        try:
            made = make_check(subject, readings, _order(data, data["leave_out"]), request.user)
        except BadInput as error:
            raise (error if error.source else error.at(name)) from None
    except BadInput as error:
        return {"file": name, "check": None, "error": error.sentence}
    return {"file": name, "check": made, "error": ""}


@require_POST
def check_strip(request: HttpRequest) -> HttpResponse:
    """Lay out a control strip for a mode, to be printed and read."""
    form = StripForm(request.POST, auto_id="strip_%s")
    if form.is_valid():
        try:
            made = strip_prints.start_check_print(
                form.cleaned_data["mode"], _order(form.cleaned_data), form.choice(), request.user
            )
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            return redirect("check-print", pk=made.pk)
    context = {"form": FilesForm(initial=_wishes(request)), "strip": form}
    return render(request, "checks/check_new.html", context, status=422)


def _print_of(pk: int) -> CheckPrint:
    found = CheckPrint.objects.select_related(
        "mode__printer__site",
        "mode__media",
        "mode__ink_set",
        "mode__profile",
        "aim",
        "made_check",
        "against",
        "started_by",
        "sheet_print__chart",
        "sheet_print__printer",
    )
    return get_object_or_404(found.defer("aim__data", "mode__profile__data", "mode__profile__fitted"), pk=pk)


def check_print_page(request: HttpRequest, pk: int) -> HttpResponse:
    """A strip on its way: print it, read it, see its verdicts."""
    found = _print_of(pk)
    rows = [int(r) for r in request.GET.get("rows", "").split(",") if r.isdecimal()]
    context = {
        "p": found,
        "pv": print_view(found.sheet_print, 1),
        "rows": rows,
        "made": Check.objects.filter(sheet_print=found.sheet_print).defer("readings", "result")[:12],
    }
    return render(request, "checks/print_page.html", context)


@require_POST
def check_print_act(request: HttpRequest, pk: int, act: str) -> HttpResponse:
    """Print the strip, read it, take a file of readings, or read rows again."""
    found = _print_of(pk)
    job = found.sheet_print
    try:
        if act == "print":
            printed = print_sheet(job.pk, request.user)
            dry = printed.minutes_to_dry
            messages.success(
                request,
                f"Printed. {f'Dry in {dry:.0f} minutes.' if dry > 0.5 else 'It can be read now.'}",
            )
        elif act == "read":
            return redirect("reading", pk=start_pass(job, request.user, request.POST.get("condition", "")).pk)
        elif act == "upload":
            return redirect("upload", pk=take_file(request, job).pk)
        else:
            last = job.passes.filter(state="done").order_by("-number").first()
            if last is None:
                raise BadInput("this strip was not read yet")
            rows = [int(r) for r in request.POST.get("rows", "").split(",") if r.strip().isdecimal()]
            return redirect("reading", pk=reopen_rows(last.pk, rows, request.user).pk)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
    return redirect("check-print", pk=pk)
