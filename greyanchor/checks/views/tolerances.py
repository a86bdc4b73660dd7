"""Pages of tolerance sets."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.checks import tolerance_sets
from greyanchor.checks.forms import criteria_from, editor_choices, grades_from
from greyanchor.checks.models import Check, ToleranceRecord
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.groups import GROUPS
from greyanchor.core.verification.query import is_query
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.core.verification.statistics import statistic_title
from greyanchor.core.verification.tolerances import MEASURES
from greyanchor.profiles.services import content_of

_NEW_ROWS = 3


@require_GET
def set_list(request: HttpRequest) -> HttpResponse:
    context = {
        "shipped": SHIPPED.values(),
        "own": ToleranceRecord.objects.select_related("created_by"),
    }
    return render(request, "checks/set_list.html", context)


def _rows(criteria: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Criteria as an editor's table shows them, with empty rows to write into."""
    rows = [
        {
            **c,
            "query": c["group"] if is_query(c["group"]) else "",
            "group": "" if is_query(c["group"]) else c["group"],
        }
        for c in criteria
    ]
    return [*rows, *({"title": ""} for _ in range(_NEW_ROWS))]


@require_GET
def set_page(request: HttpRequest, key: str) -> HttpResponse:
    return _page(request, key)


def _page(
    request: HttpRequest, key: str, sent: dict[str, Any] | None = None, error: str = ""
) -> HttpResponse:
    record = None if key in SHIPPED else get_object_or_404(ToleranceRecord, key=key)
    shown = tolerance_sets.tolerance_set(key)
    found = sent or shown.as_dict()
    context = {
        "key": key,
        "set": shown,
        "values": found,
        "record": record,
        "rows": _rows(found["criteria"]) if record else [],
        "lines": [
            {
                "c": c,
                "group": GROUPS.get(c.group, c.group),
                "measure": MEASURES[c.measure],
                "statistic": statistic_title(c.statistic),
            }
            for c in shown.criteria
        ],
        "grades": ", ".join(f"{g['name']} {g['up_to']:g}" for g in found.get("grades", [])),
        "history": record.history.select_related("history_user")[:12] if record else [],
        "used": Check.objects.filter(tolerances=key).count(),
        "error": error,
        **editor_choices(),
    }
    return render(request, "checks/set_page.html", context, status=422 if error else 200)


@require_POST
def set_copy(request: HttpRequest, key: str) -> HttpResponse:
    made = tolerance_sets.copy_set(key, request.user)
    messages.success(request, f"{made.title} can be changed now.")
    return redirect("set", key=made.key)


@require_POST
def set_import(request: HttpRequest) -> HttpResponse:
    """A set from a JSON file."""
    sent = request.FILES.get("file")
    try:
        if sent is None:
            raise BadInput("choose a JSON file first")
        text = content_of(sent).decode("utf-8-sig", "replace")
        made = tolerance_sets.import_set(text, str(sent.name), request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was imported.")
        return redirect("sets")
    messages.success(request, f"{made.title} was imported.")
    return redirect("set", key=made.key)


@require_GET
def set_export(request: HttpRequest, key: str) -> HttpResponse:
    """A set as JSON that the command and another shop can read."""
    try:
        text = tolerance_sets.tolerance_set(key).to_json()
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("sets")
    name = key.replace(":", "-")
    headers = {"Content-Disposition": f'attachment; filename="{name}.json"'}
    return HttpResponse(text.encode(), content_type="application/json", headers=headers)


@require_POST
def set_save(request: HttpRequest, key: str) -> HttpResponse:
    """Keep a changed set; what was typed stays on the page when it cannot be kept."""
    record = get_object_or_404(ToleranceRecord, key=key)
    facts: dict[str, Any] = {
        **record.data,
        "title": request.POST.get("title", "").strip() or record.title,
        "source": request.POST.get("source", "").strip() or "own",
        "edition": request.POST.get("edition", "").strip(),
    }
    try:
        facts["criteria"] = criteria_from(request.POST)
        facts["grades"] = grades_from(request.POST.get("grades", ""))
        version = request.POST.get("version", "")
        tolerance_sets.change_set(
            record.pk,
            int(version) if version.isdecimal() else 0,
            facts,
            request.user,
            request.POST.get("why", "").strip(),
        )
    except BadInput as error:
        return _page(request, key, facts, f"{error.sentence} Nothing was saved yet.")
    messages.success(request, "Saved. Checks made before keep the set they were held to.")
    return redirect("set", key=key)


@require_POST
def set_remove(request: HttpRequest, key: str) -> HttpResponse:
    record = get_object_or_404(ToleranceRecord, key=key)
    try:
        title = tolerance_sets.remove_set(record.pk)
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("set", key=key)
    messages.info(request, f"{title} was removed. Checks made under it keep their copy.")
    return redirect("sets")
