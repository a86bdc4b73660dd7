"""Pages on which builds begin, branch and change their environment."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.builds import forms
from greyanchor.builds.lifecycle import redo, start
from greyanchor.builds.models import Build
from greyanchor.builds.stages.registry import stage_types, type_of
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import SOURCE_WORDS
from greyanchor.library.machines.readiness import dues_of
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.library.records.effective_settings import FROZEN, start_values

#: of the resolutions a printer has, the one nearest to this is suggested
USUAL_DPI = 1200


@takes(MAKE)
def new_build(request: HttpRequest) -> HttpResponse:
    initial = _suggestion(request)
    form = forms.NewBuildForm(request.POST or None, initial=initial)
    measuring = forms.MeasuringForm(
        request.POST or None, initial={"method": "strip", "page": "a4", "dots": 1}
    )
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            build = start.start_build(
                data["name"],
                data["printer"],
                data["ink_set"],
                data["media"],
                form.environment(),
                request.user,
                {
                    **(measuring.cleaned_data if measuring.is_valid() else {}),
                    "greys": bool(request.POST.get("greys")),
                },
            )
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, f"The environment is frozen. {_first(build)} comes first.")
            return redirect("build", pk=build.pk)
    printers = forms.usable_printers()
    context = {
        "form": form,
        "measuring": measuring,
        "greys": bool(request.POST.get("greys")),
        "printers": printers,
        "no_media": not Media.objects.exists(),
        "overdue": _overdue(initial.get("printer")),
        "suggestions": {"printers": {str(p.pk): _usual(p) for p in printers}},
    }
    return render(request, "builds/new_build.html", context, status=422 if request.method == "POST" else 200)


def _first(build: Build) -> str:
    """The stage that a build begins with."""
    return type_of(build.stages.earliest("position")).title


def _usual(printer: Printer) -> dict[str, Any]:
    """What the form takes when a printer is chosen, its first ink set, its slowest passes and a usual
    resolution, and what it has of each.
    """
    first = next(iter(printer.ink_sets.all()), None)
    passes = printer.passes[-1] if printer.passes else ""
    resolution = min(printer.resolutions, key=lambda r: abs(r - USUAL_DPI), default="")
    return {
        "ink_set": str(first.pk) if first else "",
        "passes": str(passes),
        "resolution": str(resolution),
        "driver_media": next(iter(printer.driver.get("media") or []), ""),
        "driver_quality": next(iter(printer.driver.get("quality") or []), ""),
        "parts_itself": [str(i.pk) for i in printer.ink_sets.all() if i.parts_itself],
        "films": [str(i.pk) for i in printer.ink_sets.all() if i.is_film],
        "has": {
            "ink_set": [str(i.pk) for i in printer.ink_sets.all()],
            "passes": list(map(str, printer.passes)),
            "resolution": list(map(str, printer.resolutions)),
        },
    }


def _overdue(printer: int | None) -> list[Any]:
    """What a machine should have done before a build begins on it."""
    found = Printer.objects.filter(pk=printer).first() if printer else None
    return [d for d in dues_of(found) if d.due.overdue] if found and found.abilities else []


def _suggestion(request: HttpRequest) -> dict[str, Any]:
    """Sensible first values for a printer and media that were chosen elsewhere."""
    initial: dict[str, Any] = {}
    printer, media = request.GET.get("printer", ""), request.GET.get("media", "")
    usable = forms.usable_printers()
    chosen_printer = next((p for p in usable if str(p.pk) == printer), None)
    if chosen_printer is None:  # begin with a machine that can be built on
        chosen_printer = next((p for p in usable if any(i.can_be_built for i in p.ink_sets.all())), None)
    chosen_media = Media.objects.filter(pk=media).first() if media.isdecimal() else Media.objects.first()
    if chosen_printer:
        initial |= {
            "printer": chosen_printer.pk,
            "ink_set": next((i.pk for i in chosen_printer.ink_sets.all() if i.can_be_built), None),
            "passes": 8 if 8 in chosen_printer.passes else max(chosen_printer.passes),
            **{k: _usual(chosen_printer)[k] for k in ("resolution", "driver_media", "driver_quality")},
        }
    if chosen_media:
        initial["media"] = chosen_media.pk
    if chosen_printer and chosen_media:
        held = start_values(chosen_printer, chosen_media)
        initial |= {name: held[key].value for name, key in FROZEN.items() if key in held}
        initial["name"] = f"{chosen_media.name}, {chosen_printer.name}, {initial['passes']} pass"
    return initial


@require_GET
def suggest(request: HttpRequest) -> HttpResponse:
    """What a printer and a media begin with, each with who says so."""
    facts = {n: request.GET.get(n, "") for n in ("printer", "media")}
    pks = {n: int(v) if v.isdecimal() else 0 for n, v in facts.items()}
    printer = get_object_or_404(Printer, pk=pks["printer"])
    media = get_object_or_404(Media.objects.select_related("media_class"), pk=pks["media"])
    held = start_values(printer, media)
    return JsonResponse(
        {
            name: {"value": f"{held[key].value:g}", "source": f"from {SOURCE_WORDS[held[key].source]}"}
            for name, key in FROZEN.items()
            if key in held
        }
    )


@takes(MAKE)
def branch(request: HttpRequest, pk: int, purpose: str) -> HttpResponse:
    """Begin a build that is based on a mode in use: what it keeps and what it asks for is reported first."""
    mode = get_object_or_404(PrintMode.objects.select_related("printer", "media"), pk=pk)
    wanted = Build.Purpose(purpose)
    serving = [t for t in stage_types() if t.serves(mode.ink_set)]
    kept = [t.title for t in serving if t.name in start.KEEPS[wanted]]
    faster = [p for p in mode.printer.passes if p <= mode.environment["passes"]]
    form = forms.FasterForm(
        request.POST or None,
        passes=faster,
        initial={
            "name": f"{mode.name}, faster",
            "passes": max([p for p in faster if p < mode.environment["passes"]] or faster),
        },
    )
    status = 200
    if request.method == "POST":
        try:
            if wanted == Build.Purpose.FASTER:
                if not form.is_valid():
                    raise BadInput("choose a name and fewer passes")
                data = form.cleaned_data
                build = start.derive_faster(
                    mode, data["name"], data["passes"], data["direction"], request.user
                )
            else:
                build = start.renew(mode, purpose, request.user)
        except BadInput as error:
            form.is_bound and form.add_error(None, error.sentence)
            messages.error(request, f"{error.sentence} Nothing was changed.")
            status = 422
        else:
            said = f" Kept: {', '.join(k.lower() for k in kept)}." if kept else ""
            messages.success(request, f"Begun: {wanted.label}.{said}")
            return redirect("build", pk=build.pk)
    context = {
        "mode": mode,
        "purpose": wanted,
        "why": start.FILM_WHY if mode.ink_set.is_film else start.WHY[wanted],
        "kept": kept,
        "asked": [t.title for t in serving if t.title not in kept],
        "form": form if wanted == Build.Purpose.FASTER else None,
    }
    return render(request, "builds/branch_page.html", context, status=status)


@takes(MAKE)
def change_environment(request: HttpRequest, pk: int) -> HttpResponse:
    """Change the frozen environment: first what becomes void is listed, then it is asked again."""
    build = get_object_or_404(
        Build.objects.select_related("mode__printer", "mode__media", "mode__ink_set"), pk=pk
    )
    form = forms.EnvironmentForm(request.POST or None, initial=build.environment, mode=build.mode)
    context: dict[str, Any] = {"build": build, "mode": build.mode, "form": form, "version": build.version}
    status = 200
    if request.method == "POST" and form.is_valid():
        try:
            context["changes"] = redo.changes_of(build, form.choices())
            if not context["changes"]:
                raise BadInput("nothing was changed")
            if request.POST.get("sure"):
                redo.change_environment(
                    pk,
                    int(request.POST.get("version") or 0),
                    form.choices(),
                    form.cleaned_data["reason"],
                    request.user,
                )
                messages.success(request, f"The environment is frozen again. {_first(build)} comes first.")
                return redirect("build", pk=pk)
            context["voids"] = redo.voided_by_environment(build)
        except BadInput as error:
            form.add_error(None, error.sentence)
            context.pop("changes", None)
            status = 422
    return render(request, "builds/environment_page.html", context, status=status)
