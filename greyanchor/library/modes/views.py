"""Pages of print modes: finding, one of them, side by side, the best for a job."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts import people
from greyanchor.accounts.last_used import opens_with
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.library.models import Edition, Media, MediaClass, Printer, PrintMode
from greyanchor.library.modes import fallbacks, pins, queries, ranking, search, services
from greyanchor.library.pages import presenters
from greyanchor.library.pages.views import edit_page
from greyanchor.library.records.editing import history
from greyanchor.library.records.effective_settings import in_force, moved_since_built
from greyanchor.library.records.record_types import KINDS


@require_GET
def mode_list(request: HttpRequest) -> HttpResponse:
    found = search.find(request.GET, request.user)
    part = request.htmx and request.htmx.target == "modes"  # type: ignore[attr-defined]
    site = people.site_of(request.user)
    return render(
        request,
        "library/_mode_rows.html" if part else "library/mode_list.html",
        {"found": found, "site": site},
    )


@require_GET
def mode_page(request: HttpRequest, pk: int) -> HttpResponse:
    mode = get_object_or_404(
        PrintMode.objects.select_related(
            "printer__site",
            "media__media_class",
            "ink_set",
            "profile",
            "derived_from",
            "preset",
            "released_by",
            "limit_set",
        ).defer("profile__data", "profile__fitted", "profile__boundary", "profile__neutral"),
        pk=pk,
    )
    held = in_force(mode)
    context = {
        "mode": mode,
        "build": mode.builds.order_by("-pk").first(),
        "checks": mode.checks.select_related("aim").defer("readings", "result", "aim__data")[:12],
        "entries": history(mode, 8),
        "baseline": getattr(mode, "baseline", None),
        "restores": mode.restores.select_related("started_by").defer("curves_before", "curves_after")[:8],
        "trend": queries.restore_trend(mode),
        "refinements": mode.refinements.select_related("started_by")[:5],
        "open_restore": mode.restores.exclude(state__in=("done", "closed")).only("pk").first(),
        "held": held,
        "moved": moved_since_built(mode, held),
        "editions": mode.editions.select_related("released_by").defer("content")[:6],
        "pins": pins.pins_of(request.user).get(mode.pk, ""),
        "site": people.site_of(request.user),
        "use": ranking.ink_use(
            mode.limits, mode.total_ink, CurveSet.from_csv(mode.curves) if mode.curve_set else None
        )
        if mode.limits
        else None,
    }
    return render(request, "library/mode_page.html", context)


def mode_edit(request: HttpRequest, pk: int) -> HttpResponse:
    """The name, the note and the handling settings a mode holds itself."""
    mode = get_object_or_404(
        PrintMode.objects.select_related("printer", "media__media_class", "preset"), pk=pk
    )
    return edit_page(request, KINDS["modes"], mode, presenters.page_of(mode))


@require_GET
def mode_curves(request: HttpRequest, pk: int, ending: str) -> HttpResponse:
    """The curves that a mode prints through now."""
    mode = get_object_or_404(PrintMode, pk=pk)
    if not mode.curve_set:
        raise BadInput(f"{mode.name} has no curves yet")
    text, kind = mode.curves, "text/csv; charset=utf-8"
    if ending == "json":
        text, kind = CurveSet.from_csv(mode.curves).to_json(), "application/json"
    return file_response(text.encode(), f"curves-of-mode-{pk}.{ending}", kind)


def file_response(data: bytes, name: str, kind: str) -> HttpResponse:
    return HttpResponse(
        data, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


def _version(request: HttpRequest) -> int:
    text = request.POST.get("version", "")
    return int(text) if text.isdecimal() else 0


def _why(request: HttpRequest) -> str:
    return request.POST.get("why", "").strip()


@require_POST
def mode_retire(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(PrintMode.objects.only("pk"), pk=pk)
    mode = services.retire_mode(pk, _version(request), request.user, _why(request) or "no reason given")
    messages.info(request, f"{mode.name} is retired. It stays readable here.")
    return redirect("mode", pk=pk)


@require_POST
def mode_bring_back(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(PrintMode.objects.only("pk"), pk=pk)
    mode = services.bring_back(pk, _version(request), request.user, _why(request) or "no reason given")
    messages.success(request, f"{mode.name} is {mode.get_state_display()} again.")
    return redirect("mode", pk=pk)


@require_POST
def mode_hand_in(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(PrintMode.objects.only("pk"), pk=pk)
    mode = services.hand_in(pk, _version(request), request.user, _why(request) or "ready")
    messages.success(request, f"{mode.name} is in review. A lead releases it.")
    return redirect("mode", pk=pk)


@require_POST
def mode_send_back(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(PrintMode.objects.only("pk"), pk=pk)
    mode = services.send_back(pk, _version(request), request.user, _why(request))
    messages.info(request, f"{mode.name} is a draft again; its maker reads why in the history.")
    return redirect("mode", pk=pk)


@require_POST
def mode_pin(request: HttpRequest, pk: int) -> HttpResponse:
    """Pin a mode, or take the pin away, for oneself or for the site."""
    mode = get_object_or_404(PrintMode, pk=pk)
    services.set_pin(mode, request.user, request.POST.get("for") == "site", request.POST.get("pinned") == "1")
    back = request.POST.get("back", "")
    if url_has_allowed_host_and_scheme(back, allowed_hosts={request.get_host()}):
        return redirect(back)
    return redirect("mode", pk=pk)


@require_GET
def edition_page(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """A mode as it was released."""
    edition = get_object_or_404(
        Edition.objects.select_related("mode", "released_by", "profile", "curve_set").defer(
            "profile__data", "profile__fitted", "curve_set__text"
        ),
        mode=pk,
        number=number,
    )
    return render(
        request,
        "library/edition.html",
        {
            "edition": edition,
            "mode": edition.mode,
            "c": edition.content,
            "held": queries.settings_in_words(edition.content.get("in_force", {})),
        },
    )


@require_GET
def mode_compare(request: HttpRequest) -> HttpResponse:
    """Up to four modes side by side."""
    return render(request, "library/compare.html", {"made": ranking.compare(search.named_pks(request.GET))})


def _likely_job() -> dict[str, Any]:
    """The media of the mode that was released last."""
    newest = PrintMode.objects.filter(state=PrintMode.State.RELEASED).order_by("-pk").first()
    return {"media": newest.media_id} if newest else {}


@require_GET
@opens_with("best mode", _likely_job)
def mode_best(request: HttpRequest) -> HttpResponse:
    """The best mode for a media and a job."""
    chosen, context = (
        request.GET.get("media", ""),
        {
            "media_list": Media.objects.all(),
            "media": None,
            "weight": 30,
            "area": None,
            "minutes": None,
            "ranked": [],
        },
    )
    if chosen.isdecimal():
        media = get_object_or_404(Media.objects.select_related("media_class"), pk=chosen)
        weight = _between(request.GET.get("time"), 0, 100, 30.0) or 0.0
        area, minutes = (
            _between(request.GET.get("area"), 0.01, 100_000, None),
            _between(request.GET.get("minutes"), 1, 100_000, None),
        )
        ranked = ranking.best_for(media, weight / 100.0, area, minutes)
        context |= {
            "media": media,
            "weight": weight,
            "area": area,
            "minutes": minutes,
            "ranked": ranked,
            "own": any(r.candidate.own_media for r, _ in ranked),
        }
    return render(request, "library/best.html", context)


def _between(text: str | None, low: float, high: float, usual: float | None) -> float | None:
    if not text:
        return usual
    value = parse_number(text)
    if not low <= value <= high:
        raise BadInput(f"{text[:20]} lies outside {low:g}..{high:g}")
    return value


def media_classes(request: HttpRequest) -> HttpResponse:
    """What each media class lends, printer by printer."""
    if request.method == "POST":
        facts: dict[str, Any] = {
            n: v if (v := request.POST.get(n, "")).isdecimal() else 0
            for n in ("media_class", "printer", "mode")
        }
        group, printer = (
            get_object_or_404(MediaClass, pk=facts["media_class"]),
            get_object_or_404(Printer, pk=facts["printer"]),
        )
        mode = get_object_or_404(PrintMode, pk=facts["mode"]) if facts["mode"] else None
        fallbacks.set_fallback(group, printer, mode, request.user)
        messages.success(
            request, f"{group.name} on {printer.name}: {mode.name if mode else 'nothing'} is lent."
        )
        return redirect("media-classes-lend")
    return render(request, "library/media_classes.html", fallbacks.class_fallbacks())
