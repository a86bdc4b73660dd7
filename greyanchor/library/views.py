"""Pages of the library."""

from __future__ import annotations

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.library import queries, services
from greyanchor.library.forms import MediaForm
from greyanchor.library.models import Media, Printer, PrintMode


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
        PrintMode.objects.select_related("printer__site", "media", "ink_set", "profile"), pk=pk
    )
    build = mode.builds.order_by("-pk").first()
    checks = mode.checks.select_related("aim").defer("readings", "result", "aim__data")[:12]
    context = {
        "mode": mode,
        "build": build,
        "checks": checks,
        "history": mode.history.select_related("history_user")[:20],
    }
    return render(request, "library/mode_page.html", context)


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
    return render(request, "library/printer_page.html", {"printer": printer, "modes": modes})


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
