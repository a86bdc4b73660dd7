"""Background work that failed or waits, with its cause, for leads."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.apps import apps
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from greyanchor.accounts.people import named
from greyanchor.background.models import BackgroundWork
from greyanchor.library.shop.audit_views import for_leads

_SHOWN = 100
_State = BackgroundWork.State
#: which states a view of the page shows
VIEWS = {
    "failed": ("Failed", (_State.FAILED, _State.INTERRUPTED)),
    "active": ("Waiting and running", (_State.QUEUED, _State.RUNNING)),
    "done": ("Done", (_State.DONE, _State.CANCELLED)),
}


@dataclass(frozen=True)
class Row:
    """One piece of work; `error` is the program's own report of where it failed."""

    kind: str
    what: str
    state: str
    who: str
    at: datetime
    cause: str
    error: str
    share: int


@require_GET
def work_page(request: HttpRequest) -> HttpResponse:
    """Background work of every kind, the newest first."""
    for_leads(request)
    shown = request.GET.get("show", "failed")
    shown = shown if shown in VIEWS else "failed"
    models = [m for m in apps.get_models() if issubclass(m, BackgroundWork)]
    rows = [row for model in models for row in _rows(model, VIEWS[shown][1])]
    rows.sort(key=lambda r: r.at, reverse=True)
    counts = {
        key: sum(m._default_manager.filter(state__in=states).count() for m in models)
        for key, (_, states) in VIEWS.items()
    }
    views = [(key, title, counts[key], key == shown) for key, (title, _) in VIEWS.items()]
    return render(request, "library/work.html", {"rows": rows[:_SHOWN], "views": views, "shown": shown})


def _rows(model: Any, states: Any) -> list[Row]:
    large = [f.name for f in model._meta.concrete_fields if f.get_internal_type() == "BinaryField"]
    found = model._default_manager.filter(state__in=states).select_related("started_by").defer(*large)
    return [
        Row(
            str(model._meta.verbose_name),
            str(w),
            w.get_state_display(),
            named(w.started_by),
            w.heard_at,
            w.message,
            w.error,
            w.percent,
        )
        for w in found.order_by("-heard_at")[:_SHOWN]
    ]
