"""Pages of viewing lights: the places, and one of them with what was measured there."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.colours import lights
from greyanchor.colours.forms import LimitsForm, PlaceForm, faults_of
from greyanchor.colours.models import LightMeasured, LightPlace
from greyanchor.core.colour.metamers import class_of
from greyanchor.core.colour.viewing import CRITERIA, LightReport, in_words
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.formats import light_file
from greyanchor.core.numbers import parse_number
from greyanchor.drawing.lights import course_plot, spectrum_plot
from greyanchor.profiles.models import RoomLight
from greyanchor.profiles.services import sent_file

_SHOWN = 40
_COURSES = {
    "chromaticity": "u' v'",
    "illuminance_min": "lx",
    "ra": "Ra",
    "mi_visible": "index",
}


@require_http_methods(["GET", "POST"])
def light_list(request: HttpRequest) -> HttpResponse:
    """Every place, its verdict and when it is due; a form for another."""
    form = PlaceForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            made = lights.add_place(**form.cleaned_data, user=request.user)
        except BadInput as error:
            form.add_error("name", error.sentence)
        else:
            messages.success(request, f"{made.name} is a place now; measure it here.")
            return redirect("light-place", pk=made.pk)
    rows = [_row(place) for place in LightPlace.objects.select_related("site")]
    context = {
        "form": form,
        "rows": rows,
        "older": RoomLight.objects.filter(measured=None).defer("power"),
        "failing": sum(r["verdict"] == "fail" for r in rows),
        "due": sum(r["due"].is_over for r in rows),
    }
    return render(request, "colours/light_list.html", context, status=400 if form.errors else 200)


def _row(place: LightPlace) -> dict[str, Any]:
    last = place.newest
    report = lights.report_of(last) if last else None
    return {
        "place": place,
        "last": last,
        "report": report,
        "words": in_words(report) if report else "",
        "verdict": report.verdict if report else "",
        "due": lights.due_of(place),
    }


@require_GET
def light_place(request: HttpRequest, pk: int) -> HttpResponse:
    """A place: its newest light, how it went since new lamps, and measuring."""
    place = get_object_or_404(LightPlace.objects.select_related("site"), pk=pk)
    number = request.GET.get("of", "")
    every = place.measured.select_related("light", "measured_by")
    shown = every.filter(pk=int(number)).first() if number.isdecimal() else every.first()
    rows, course = lights.ageing(place)
    context = {
        "place": place,
        "due": lights.due_of(place),
        "meter": lights.meter_of(place),
        "spots": list(enumerate(lights.SPOTS))[1:],
        "limits_form": LimitsForm(place=place),
        "measured": every[:_SHOWN],
        "count": every.count(),
        "courses": _courses(place, course) if len(rows) > 1 else [],
        "fails_in": sorted((days, CRITERIA[name]) for name, days in course.fails_in.items()),
    }
    if shown is not None:
        context |= _shown(shown)
    return render(request, "colours/light_place.html", context)


def _courses(place: LightPlace, course: lights.Ageing) -> list[tuple[str, str]]:
    return [
        (
            CRITERIA[name] if name != "illuminance_min" else "illuminance",
            course_plot(course.days, course.values[name], place.limits.get(name), label, CRITERIA[name]),
        )
        for name, label in _COURSES.items()
        if name in course.values
    ]


def _shown(measured: LightMeasured) -> dict[str, Any]:
    report = lights.report_of(measured)
    return {
        "shown": measured,
        "report": report,
        "words": in_words(report),
        "criteria": [(CRITERIA[c.id], c, _digits(c.value)) for c in report.criteria],
        "mi_class": class_of(report.mi_visible),
        "plot": spectrum_plot(measured.spectrum, report.cct),
        "evenness": _evenness(measured, report),
        "coarse": measured.step > 5.0,
    }


def _digits(value: float | None) -> str:
    return (
        "–"
        if value is None
        else f"{value:.4f}"
        if abs(value) < 0.1
        else f"{value:.3g}"
        if abs(value) < 1000
        else f"{value:.0f}"
    )


def _evenness(measured: LightMeasured, report: LightReport) -> str:
    if not measured.around or not report.lux:
        return ""
    least, most = min(measured.around), max(measured.around)
    return f"{report.lux:.0f} lx in the middle, {least:.0f} to {most:.0f} lx around"


@require_GET
def light_file_of(request: HttpRequest, pk: int) -> HttpResponse:
    """The spectrum of a measurement as a file."""
    found = get_object_or_404(LightMeasured.objects.select_related("place"), pk=pk)
    name = "".join(c if c.isalnum() or c in "-_" else "-" for c in str(found.light.name)).strip("-")
    return HttpResponse(
        light_file.dumps(found.spectrum),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )


@require_POST
def light_zero(request: HttpRequest, pk: int) -> HttpResponse:
    """Tell the meter what dark is."""
    try:
        lights.zero(_place(pk))
        messages.success(request, "The meter knows what dark is. Take the cap off and measure.")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("light-place", pk=pk)


@require_POST
def light_measure(request: HttpRequest, pk: int, spot: int) -> HttpResponse:
    """Measure the middle (0), or a corner."""
    if spot >= len(lights.SPOTS):
        raise Http404
    try:
        made = lights.measure(_place(pk), spot, request.user)
    except NotReadable as error:
        messages.error(request, f"{error.sentence} Nothing was kept.")
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        _say(request, made, spot)
    return redirect("light-place", pk=pk)


def _say(request: HttpRequest, made: LightMeasured, spot: int = 0) -> None:
    if spot:
        messages.success(request, f"The {lights.SPOTS[spot]} has {made.around[-1]:.0f} lx.")
    elif made.verdict == "pass":
        messages.success(request, f"{made.place.name} passes {made.place.condition}.")
    else:
        messages.warning(request, f"{made.place.name} fails: {in_words(lights.report_of(made))}.")


@require_POST
def light_upload(request: HttpRequest, pk: int) -> HttpResponse:
    """A light that another program measured."""
    place = _place(pk)
    try:
        data, name = sent_file(request)
        _say(request, lights.keep_file(place, data, name, request.user))
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was kept.")
    return redirect("light-place", pk=pk)


@require_POST
def light_lamps(request: HttpRequest, pk: int) -> HttpResponse:
    """Somebody put new lamps in."""
    place = _place(pk)
    lights.lamp_changed(place, request.user)
    messages.success(request, f"{place.name} has new lamps; measure it when they have burned in.")
    return redirect("light-place", pk=pk)


@takes(MAKE)
@require_POST
def light_limits(request: HttpRequest, pk: int) -> HttpResponse:
    """What a place is held to."""
    place = _place(pk)
    form = LimitsForm(request.POST, place=place)
    try:
        if not form.is_valid():
            raise BadInput(faults_of(form))
        d = form.cleaned_data
        facts = {"source": d["source"], "every_days": d["every_days"]}
        lights.change_place(place, d["version"], facts, form.limits, request.user)
        messages.success(request, "The limits are kept; what is shown is judged by them.")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("light-place", pk=pk)


@require_POST
def light_control(request: HttpRequest, pk: int) -> HttpResponse:
    """Change a simulated place."""
    place = _place(pk)
    meter = lights.meter_of(place)
    try:
        sent = {c.key: request.POST.get(c.key, "") for c in (meter.controls if meter else ())}
        lights.control(place, {k: parse_number(v) for k, v in sent.items() if v})
        messages.success(request, "The simulated place is like this from now on.")
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("light-place", pk=pk)


def _place(pk: int) -> LightPlace:
    return get_object_or_404(LightPlace.objects.select_related("site"), pk=pk)
