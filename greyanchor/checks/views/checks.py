"""Pages of checks: the list, one check, its report, label and files, and what may still be done to it."""

from __future__ import annotations

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.checks import services
from greyanchor.checks.diagnosing import diagnosis_of
from greyanchor.checks.forms import PredictionForm
from greyanchor.checks.models import Check
from greyanchor.checks.paper_reason import paper_reason
from greyanchor.checks.queries import check_view, checks, prediction_view
from greyanchor.checks.reports import as_json, label_facts, report_facts
from greyanchor.checks.strip_prints import keep_aim_of
from greyanchor.core import cells
from greyanchor.core.errors import BadInput
from greyanchor.drawing.labels import SIZES, label_pdf
from greyanchor.drawing.report import report_pdf
from greyanchor.profiles.models import AimRecord, Profile


@require_GET
def check_list(request: HttpRequest) -> HttpResponse:
    found = checks(request.GET)
    page = Paginator(found.qs, 50).get_page(request.GET.get("page"))
    kept = request.GET.copy()
    kept.pop("page", None)
    context = {"page": page, "filter": found, "query": kept.urlencode()}
    part = bool(request.htmx)  # type: ignore[attr-defined]
    return render(request, "checks/_check_rows.html" if part else "checks/check_list.html", context)


def check_of(pk: int) -> Check:
    """A check with what its page shows."""
    found = Check.objects.select_related(
        "mode__printer__site",
        "profile",
        "aim",
        "made_by",
        "signed_by",
        "printer__site",
        "sheet_print",
        "against",
    )
    return get_object_or_404(
        found.defer("aim__data", "profile__data", "profile__fitted", "sheet_print__sent"),
        pk=pk,
    )


@require_GET
def check_page(request: HttpRequest, pk: int) -> HttpResponse:
    check = check_of(pk)
    context = {**check_view(check), "sizes": SIZES, "paper": paper_reason(check)}
    return render(request, "checks/check_page.html", context)


@require_GET
def check_diagnosis(request: HttpRequest, pk: int) -> HttpResponse:
    """The causes of a check's differences, brought after the page because they are worked out."""
    check = check_of(pk)
    return render(request, "checks/_diagnosis.html", {"check": check, "causes": diagnosis_of(check)})


@require_GET
def check_report(request: HttpRequest, pk: int) -> HttpResponse:
    """The report as a page that prints."""
    check = check_of(pk)
    context = {**check_view(check), "report": report_facts(check), "causes": check.diagnosis or []}
    return render(request, "checks/report_page.html", context)


@require_GET
def check_report_pdf(request: HttpRequest, pk: int) -> HttpResponse:
    return _file(report_pdf(report_facts(check_of(pk))), "application/pdf", f"check-{pk}.pdf")


@require_GET
def check_label(request: HttpRequest, pk: int) -> HttpResponse:
    """A label whose code leads to this check."""
    address = request.build_absolute_uri(reverse("check", args=[pk]))
    try:
        data = label_pdf(label_facts(check_of(pk), address), request.GET.get("size", "102x51"))
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("check", pk=pk)
    return _file(data, "application/pdf", f"label-{pk}.pdf")


def _file(data: bytes, content_type: str, name: str) -> HttpResponse:
    headers = {"Content-Disposition": f'inline; filename="{name}"'}
    return HttpResponse(data, content_type=content_type, headers=headers)


@require_GET
def check_json(request: HttpRequest, pk: int) -> HttpResponse:
    """Everything about a check as JSON."""
    headers = {"Content-Disposition": f'attachment; filename="check-{pk}.json"'}
    return JsonResponse(as_json(check_of(pk)), headers=headers, json_dumps_params={"indent": 1})


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
    writer = cells.Writer(response)
    writer.writerow(
        ["patch", "spot", "C", "M", "Y", "K", "aim L", "aim a", "aim b", "L", "a", "b", "difference"]
    )
    n = len(r["ids"])
    device, spots = r["device"] or [["", "", "", ""]] * n, r.get("spots") or [""] * n
    for row in zip(r["ids"], spots, device, r["aim"], r["measured"], r["differences"]):
        writer.writerow([row[0], row[1], *row[2], *row[3], *row[4], row[5]])
    return response


@require_POST
def check_sign(request: HttpRequest, pk: int) -> HttpResponse:
    """Sign a check off."""
    try:
        services.sign_off(pk, request.user)
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        messages.success(
            request, "Signed off. From now on every change to it asks for a reason and leaves a trace."
        )
    return redirect("check", pk=pk)


@require_POST
def check_amend(request: HttpRequest, pk: int) -> HttpResponse:
    """Change name or note of a check; the trace stays."""
    name, note, why = (request.POST.get(field, "").strip() for field in ("name", "note", "why"))
    try:
        services.amend(pk, name[:160], note[:300], why[:300], request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was saved.")
    else:
        messages.success(request, "Saved. The earlier values are in the trace.")
    return redirect("check", pk=pk)


@require_POST
def check_as_aim(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep the readings of a check as an aim."""
    check = check_of(pk)
    name = request.POST.get("name", "").strip() or f"{check.title}, baseline"
    try:
        made = keep_aim_of(check, name[:120], request.user)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("check", pk=pk)
    messages.success(request, f"{made} is an aim now.")
    return redirect("aim", pk=made.pk)


@require_GET
def prediction_page(request: HttpRequest, pk: int) -> HttpResponse:
    """What a check will say of prints through a profile, before anything is printed."""
    profile = get_object_or_404(Profile.objects.prefetch_related("modes"), pk=pk)
    form = PredictionForm(request.GET or None, initial={"corrected": True})
    context = {"profile": profile, "form": form}
    try:
        if form.is_valid():
            data = form.cleaned_data
            context |= prediction_view(profile, data["aim"], data["tolerances"], data["corrected"])
        elif not request.GET:
            aim = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).first()
            if aim is not None:
                context |= prediction_view(profile, aim, "iso12647-7:2016", True)
    except BadInput as error:
        context["refused"] = error.sentence
    wrong = form.is_bound and (form.errors or "refused" in context)
    return render(request, "checks/prediction_page.html", context, status=422 if wrong else 200)
