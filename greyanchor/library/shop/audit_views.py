"""The audit log: a page to look things up in, and a table for an auditor."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from itertools import chain
from typing import Any

from django import forms
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET

from greyanchor.accounts import audit
from greyanchor.accounts.people import named
from greyanchor.accounts.roles import RELEASE, NotAllowed, may
from greyanchor.core import cells

_PAGE = 100


class AskedForm(forms.Form):
    """What is looked for in the audit log."""

    who = forms.ModelChoiceField(User.objects.order_by("username"), required=False, empty_label="anybody")
    kind = forms.ChoiceField(
        label="What kind", choices=[("", "anything"), *audit.KINDS.items()], required=False
    )
    since = forms.DateField(
        label="From", required=False, widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d")
    )
    until = forms.DateField(
        label="To", required=False, widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d")
    )
    words = forms.CharField(label="Words", max_length=120, required=False)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["who"].label_from_instance = named  # type: ignore[attr-defined]

    def asked(self) -> audit.Asked:
        """What to look for; what cannot be read is not asked for."""
        if not self.is_valid():
            return audit.Asked()
        d = self.cleaned_data
        until = d["until"] + timedelta(days=1) if d["until"] else None
        return audit.Asked(
            d["who"].pk if d["who"] else None, d["kind"], d["words"], _begin(d["since"]), _begin(until)
        )


def _begin(day: Any) -> datetime | None:
    return timezone.make_aware(datetime.combine(day, time())) if day else None


def for_leads(request: HttpRequest) -> None:
    """Refuse whoever is no lead."""
    if not may(request.user, RELEASE):
        raise NotAllowed(request.user, RELEASE)


@require_GET
def audit_page(request: HttpRequest) -> HttpResponse:
    """Who did what, a hundred at a time."""
    for_leads(request)
    form = AskedForm(request.GET)
    text = request.GET.get("skip", "")
    skip = int(text) if text.isdecimal() and len(text) < 8 else 0
    found = audit.entries(form.asked(), skip, _PAGE + 1)
    query = request.GET.copy()
    query.pop("skip", None)
    return render(
        request,
        "library/audit.html",
        {
            "form": form,
            "entries": found[:_PAGE],
            "first": skip + 1,
            "more": skip + _PAGE if len(found) > _PAGE else None,
            "newer": max(0, skip - _PAGE) if skip else None,
            "query": query.urlencode(),
        },
    )


@require_GET
def audit_csv(request: HttpRequest) -> StreamingHttpResponse:
    """Everything that a query asks for."""
    for_leads(request)
    done = audit.entries(AskedForm(request.GET).asked())
    rows = ([e.at.isoformat(), e.who, e.kind, e.what, e.before, e.after] for e in done)
    heads = ["at", "who", "kind", "what", "before", "after"]
    headers = {"Content-Disposition": 'attachment; filename="audit-log.csv"'}
    return StreamingHttpResponse(
        cells.lines(chain([heads], rows)), content_type="text/csv; charset=utf-8", headers=headers
    )
