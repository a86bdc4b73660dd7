"""What uses the disk, by which rules it goes, and doing so; what the web itself keeps that grows."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

from axes.models import AccessAttempt, AccessLog
from django import forms
from django.conf import settings
from django.contrib import messages
from django.contrib.sessions.models import Session
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST

from greyanchor.background import growth
from greyanchor.core.errors import BadInput
from greyanchor.library.models import StorageRules
from greyanchor.library.shop import rules
from greyanchor.library.shop.audit_views import for_leads
from greyanchor.measuring.claims import claimed

_NOTHING = 64 * 2**10


def _restore_copies() -> Iterator[Path]:
    return (p for p in Path(settings.HOME).glob("before-restore-*.zip") if p.is_file())


def _older_copies() -> Iterator[growth.Thing]:
    """All but the newest: that one stays whatever its age."""
    return growth.old_files(sorted(_restore_copies())[:-1])


def _database() -> tuple[int, int]:
    return growth.size_of(Path(settings.HOME).glob("greyanchor.sqlite3*"))


def _sign_ins() -> tuple[int, int]:
    return AccessLog.objects.count() + AccessAttempt.objects.count() + Session.objects.count(), 0


def _old_sign_ins() -> Iterator[growth.Thing]:
    for model in (AccessLog, AccessAttempt):
        for pk, at in model.objects.values_list("pk", "attempt_time"):
            yield growth.Thing(0, at, lambda pk=pk, model=model: model.objects.filter(pk=pk).delete())
    for key, at in Session.objects.filter(expire_date__lt=timezone.now()).values_list(
        "session_key", "expire_date"
    ):
        yield growth.Thing(0, at, lambda key=key: Session.objects.filter(session_key=key).delete())


growth.register(
    growth.Store(
        "copies", "Copies from before a restore", "the newest stays",
        lambda: growth.size_of(_restore_copies()), "copies_days", _older_copies,
    )
)  # fmt: skip
growth.register(
    growth.Store(
        "sign-ins", "Sign-ins, lockouts and sessions that are over", "changes stay in the audit log",
        _sign_ins, "sign_ins_days", _old_sign_ins,
    )
)  # fmt: skip
growth.register(
    growth.Store("database", "The database", "records, readings, checks and profiles: they stay", _database)
)
growth.register(
    growth.Store(
        "cache", "Results that take long, kept", "made again at any time; the cache bounds itself",
        lambda: growth.size_of(growth.files_below(Path(settings.HOME) / "cache")),
    )
)  # fmt: skip


class RulesForm(forms.ModelForm):
    """For how long things are kept."""

    version = forms.IntegerField(widget=forms.HiddenInput)

    class Meta:
        model = StorageRules
        fields = [*StorageRules.DAYS, *StorageRules.QUOTAS]
        widgets = dict.fromkeys(fields, forms.NumberInput(attrs={"class": "wide-6"}))


def tidy_when_due() -> dict[str, tuple[int, int]]:
    """Apply the rules, once an hour at most and in one process at a time; what went."""
    current = StorageRules.current()
    if current.applied_at and timezone.now() - current.applied_at < timedelta(hours=1):
        return {}
    with claimed("storage", 600.0) as mine:
        return _tidy() if mine else {}


def _tidy() -> dict[str, tuple[int, int]]:
    current, _ = StorageRules.objects.get_or_create(pk=1)
    StorageRules.objects.filter(pk=current.pk).update(applied_at=timezone.now())
    return growth.tidy(lambda rule: getattr(current, rule, 0) if rule else 0)


def storage_page(request: HttpRequest) -> HttpResponse:
    """What uses what, and by which rules it goes."""
    for_leads(request)
    current = StorageRules.current()
    form = RulesForm(request.POST or None, instance=StorageRules.current(),
                     initial={"version": current.version})  # fmt: skip
    if request.method == "POST" and form.is_valid():
        values = {n: form.cleaned_data[n] for n in RulesForm.Meta.fields}
        rules.set_storage(form.cleaned_data["version"], values, request.user)
        messages.success(request, "Saved. The worker applies it within the hour.")
        return redirect("storage")
    context = {
        "form": form,
        "rows": _rows(form, current),
        "quotas": [form[name] for name in StorageRules.QUOTAS],
        "applied_at": current.applied_at,
    }
    status = 422 if request.method == "POST" else 200
    return render(request, "web/storage.html", context, status=status)


def _rows(form: RulesForm, current: StorageRules) -> list[dict[str, Any]]:
    rows = []
    for store in growth.stores():
        count, size = store.used()
        going = list(growth.over(store, getattr(current, store.rule, 0) if store.rule else 0))
        rows.append(
            {
                "store": store,
                "count": count,
                "bytes": size,
                "field": form[store.rule] if store.rule else None,
                "going": len(going),
                "going_bytes": sum(t.bytes for t in going),
            }
        )
    most = max([r["bytes"] for r in rows] + [_NOTHING])
    for row in rows:
        row["share"] = 100.0 * row["bytes"] / most
    return rows


@require_POST
def storage_tidy(request: HttpRequest) -> HttpResponse:
    """Apply the rules now."""
    for_leads(request)
    with claimed("storage", 600.0) as mine:
        if not mine:
            raise BadInput("the rules are being applied right now")
        gone = _tidy()
    size = sum(s for _, s in gone.values())
    messages.success(request, f"{sum(n for n, _ in gone.values())} things went, {size / 2**20:.1f} MB.")
    return redirect("storage")
