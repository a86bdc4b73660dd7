"""Pages of checks."""

from __future__ import annotations

import csv

from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET

from greyanchor.checks.forms import PredictionForm
from greyanchor.checks.models import Check
from greyanchor.checks.queries import check_view, prediction_view
from greyanchor.profiles.models import AimRecord, Profile


@require_GET
def check_list(request: HttpRequest) -> HttpResponse:
    everything = Check.objects.select_related("mode__printer", "mode__media", "aim").defer(
        "readings", "result", "criteria", "aim__data", "mode__curves"
    )
    page = Paginator(everything, 50).get_page(request.GET.get("page"))
    return render(request, "checks/check_list.html", {"page": page})


@require_GET
def check_page(request: HttpRequest, pk: int) -> HttpResponse:
    check = get_object_or_404(
        Check.objects.select_related("mode", "profile", "aim", "made_by").defer("aim__data", "profile__data"),
        pk=pk,
    )
    return render(request, "checks/check_page.html", check_view(check))


@require_GET
def check_readings(request: HttpRequest, pk: int) -> HttpResponse:
    """The readings of a check as CGATS text."""
    check = get_object_or_404(Check, pk=pk)
    headers = {"Content-Disposition": f'attachment; filename="check-{pk}.txt"'}
    return HttpResponse(check.readings.encode(), content_type="text/plain; charset=utf-8", headers=headers)


@require_GET
def check_patches(request: HttpRequest, pk: int) -> HttpResponse:
    """The patches of a check as CSV."""
    r = get_object_or_404(Check, pk=pk).result
    headers = {"Content-Disposition": f'attachment; filename="check-{pk}.csv"'}
    response = HttpResponse(content_type="text/csv; charset=utf-8", headers=headers)
    writer = csv.writer(response)
    writer.writerow(["patch", "C", "M", "Y", "K", "aim L", "aim a", "aim b", "L", "a", "b", "difference"])
    for row in zip(r["ids"], r["device"], r["aim"], r["measured"], r["differences"]):
        writer.writerow([row[0], *row[1], *row[2], *row[3], row[4]])
    return response


@require_GET
def prediction_page(request: HttpRequest, pk: int) -> HttpResponse:
    """What a check will say of prints through a profile, before anything is printed."""
    profile = get_object_or_404(Profile.objects.prefetch_related("modes"), pk=pk)
    form = PredictionForm(request.GET or None, initial={"corrected": True})
    context = {"profile": profile, "form": form}
    if form.is_valid():
        data = form.cleaned_data
        context |= prediction_view(profile, data["aim"], data["tolerances"], data["corrected"])
    elif not request.GET:
        aim = AimRecord.objects.first()
        if aim is not None:
            context |= prediction_view(profile, aim, "iso12647-7:2016", True)
    return render(request, "checks/prediction_page.html", context, status=422 if form.errors else 200)
