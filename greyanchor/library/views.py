"""Pages of the library."""

from __future__ import annotations

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library import queries, services
from greyanchor.library.forms import MediaForm
from greyanchor.library.models import Media, MediaClass, Printer, PrintMode


@require_GET
def mode_list(request: HttpRequest) -> HttpResponse:
    narrowed = queries.modes(request.GET)
    page = Paginator(narrowed.qs, queries.PAGE).get_page(request.GET.get("page"))
    query = request.GET.copy()
    query.pop("page", None)
    context = {
        "filter": narrowed,
        "page": page,
        "facets": queries.facet_counts(narrowed),
        "query": query.urlencode(),
    }
    part = request.htmx and request.htmx.target == "modes"  # type: ignore[attr-defined]
    return render(request, "library/_mode_rows.html" if part else "library/mode_list.html", context)


@require_GET
def mode_page(request: HttpRequest, pk: int) -> HttpResponse:
    mode = get_object_or_404(
        PrintMode.objects.select_related(
            "printer__site", "media", "ink_set", "profile", "derived_from"
        ).defer("profile__data", "profile__fitted", "profile__boundary", "profile__neutral"),
        pk=pk,
    )
    build = mode.builds.order_by("-pk").first()
    checks = mode.checks.select_related("aim").defer("readings", "result", "aim__data")[:12]
    context = {
        "mode": mode,
        "build": build,
        "checks": checks,
        "history": mode.history.select_related("history_user")[:20],
        "baseline": getattr(mode, "baseline", None),
        "restores": mode.restores.select_related("started_by").defer("curves_before", "curves_after")[:8],
        "trend": queries.restore_trend(mode),
        "refinements": mode.refinements.select_related("started_by")[:5],
        "open_restore": mode.restores.exclude(state__in=("done", "closed")).only("pk").first(),
    }
    return render(request, "library/mode_page.html", context)


@require_GET
def mode_curves(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """The curves that a mode prints through now."""
    mode = get_object_or_404(PrintMode, pk=pk)
    if not mode.curves:
        raise BadInput(f"{mode.name} has no curves yet")
    text, kind = mode.curves, "text/csv; charset=utf-8"
    if ending == "json":
        text, kind = CurveSet.from_csv(mode.curves).to_json(), "application/json"
    name = f"curves-of-mode-{pk}.{ending}"
    return HttpResponse(
        text, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@require_POST
def mode_retire(request: HttpRequest, pk: int) -> HttpResponse:
    why = request.POST.get("why", "").strip() or "no reason given"
    mode = services.retire_mode(pk, int(request.POST.get("version") or 0), request.user, why)
    messages.info(request, f"{mode.name} is retired. It stays readable here.")
    return redirect("mode", pk=pk)


@require_GET
def printer_list(request: HttpRequest) -> HttpResponse:
    printers = Printer.objects.select_related("site").prefetch_related("ink_sets", "modes")
    return render(request, "library/printer_list.html", {"printers": printers})


@require_GET
def printer_page(request: HttpRequest, pk: int) -> HttpResponse:
    printer = get_object_or_404(Printer.objects.select_related("site").prefetch_related("ink_sets"), pk=pk)
    modes = printer.modes.select_related("media", "printer__site").defer("curves")
    drift, paper = printer.standin.get("drift", {}), printer.standin.get("paper") or [0, 0, 0]
    standin = {c: round(100 * drift.get(c, 1.0)) for c in "CMYK"} | {"paper_b": paper[2]}
    if not any(i.can_be_built for i in printer.ink_sets.all()):
        standin = {}
    return render(
        request, "library/printer_page.html", {"printer": printer, "modes": modes, "standin": standin}
    )


@require_POST
def printer_standin(request: HttpRequest, pk: int) -> HttpResponse:
    """Let the stand-in behind a printer drift."""
    printer = get_object_or_404(Printer, pk=pk)
    try:
        drift = {c: float(request.POST.get(c) or 100) / 100.0 for c in "CMYK"}
        paper = [0.0, 0.0, float(request.POST.get("paper_b") or 0)]
    except ValueError:
        raise BadInput("a drift is a number in percent") from None
    services.set_standin(printer, {c: v for c, v in drift.items() if v != 1.0}, paper)
    messages.success(
        request, "The stand-in prints like this from now on; sheets that are printed stay as they are."
    )
    return redirect("printer", pk=pk)


def media_classes(request: HttpRequest) -> HttpResponse:
    """What each media class lends, printer by printer."""
    if request.method == "POST":
        group = get_object_or_404(MediaClass, pk=request.POST.get("media_class") or 0)
        printer = get_object_or_404(Printer, pk=request.POST.get("printer") or 0)
        chosen = request.POST.get("mode", "")
        mode = get_object_or_404(PrintMode, pk=chosen) if chosen else None
        services.set_fallback(group, printer, mode)
        messages.success(
            request, f"{group.name} on {printer.name}: {mode.name if mode else 'nothing'} is lent."
        )
        return redirect("media-classes")
    return render(request, "library/media_classes.html", queries.class_fallbacks())


@require_GET
def media_list(request: HttpRequest) -> HttpResponse:
    return render(
        request,
        "library/media_list.html",
        {"media": Media.objects.select_related("media_class").prefetch_related("modes")},
    )


def media_page(request: HttpRequest, pk: int) -> HttpResponse:
    media = get_object_or_404(Media.objects.select_related("media_class"), pk=pk)
    form = MediaForm(
        request.POST or None, instance=Media.objects.get(pk=pk), initial={"version": media.version}
    )
    status = 200
    if request.method == "POST":
        if form.is_valid():
            data = form.cleaned_data
            try:
                services.edit_media(pk, data["version"], form.facts(), request.user, data["why"])
            except services.Outdated as error:
                form.add_error(None, f"{error.reason}.")
                form.data = form.data.copy()
                form.data["version"] = str(media.version)
                status = 409
            else:
                messages.success(request, f"{media.name} saved.")
                return redirect("media", pk=pk)
        else:
            status = 422
    context = {
        "media": media,
        "form": form,
        "modes": media.modes.select_related("printer__site", "media").defer("curves"),
        "history": media.history.select_related("history_user")[:15],
    }
    return render(request, "library/media_page.html", context, status=status)
