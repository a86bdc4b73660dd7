"""Pages of what several people keep: facts, handling settings, used-by lists, files, history, and merging."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.db import models
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.audit_log import noted
from greyanchor.accounts.roles import MAKE, RELEASE, NotAllowed, may
from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    Attachment,
    KeptText,
    LimitSet,
    MediaClass,
    MediaPreset,
    Printer,
    PrintMode,
)
from greyanchor.library.pages import presenters
from greyanchor.library.pages.forms import AbilitiesForm, HandlingForm, RecordForm, form_of
from greyanchor.library.records import editing
from greyanchor.library.records.effective_settings import in_force, preset_in_force
from greyanchor.library.records.handling_edits import start_class
from greyanchor.library.records.record_types import Kind, record_type_named, record_type_of
from greyanchor.profiles.services import content_of

_IN_USE = (PrintMode.State.RELEASED, PrintMode.State.RETIRED)


def record_or_404(kind: Kind, pk: int) -> Any:
    return get_object_or_404(kind.model, pk=pk)


def record_page(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """One record: looked at, and changed."""
    kind = record_type_named(kind_key)
    record = record_or_404(kind, pk)
    return edit_page(request, kind, record, presenters.page_of(record))


def edit_page(request: HttpRequest, kind: Kind, record: Any, context: dict[str, Any]) -> HttpResponse:
    """The page of a record with its forms; a POST changes it, and meets whoever changed it in between."""
    if request.method == "POST" and not _may_change(request, kind, record):
        in_use = kind.role == RELEASE and record.state in _IN_USE
        raise NotAllowed(request.user, RELEASE if in_use else MAKE)
    posted = request.POST or None
    form = form_of(kind)(
        posted, instance=kind.model._default_manager.get(pk=record.pk), initial={"version": record.version}
    )  # type: ignore[arg-type]
    handling = _handling_form(kind, record, posted)
    abilities = AbilitiesForm(record.abilities, posted) if kind.key == "printers" else None
    status = 200
    if posted is not None:
        try:
            answer = _save(request, kind, record, form, handling, abilities)
            if answer is not None:
                return answer
            status = 422
        except editing.EditConflict as error:
            return _merge_page(request, kind, error)
        except BadInput as error:
            form.add_error(None, error.sentence)
            status = 422
    context |= {
        "kind": kind,
        "record": record,
        "form": form,
        "handling": handling,
        "abilities": abilities,
        "files": editing.files_of(record),
        "entries": editing.history(record, 12),
        "may_change": _may_change(request, kind, record),
        "holding": editing.blocking_references(record) if kind.key != "modes" else [],
        "noted": noted(record)[:12],
    }
    return render(request, "library/record_page.html", context, status=status)


def _may_change(request: HttpRequest, kind: Kind, record: Any) -> bool:
    in_use = kind.role == RELEASE and record.state in _IN_USE
    return may(request.user, RELEASE if in_use else MAKE)


def _handling_form(kind: Kind, record: Any, posted: QueryDict | None) -> HandlingForm | None:
    if isinstance(record, MediaClass):
        return HandlingForm(record.handling, None, posted, record.reasons)
    if isinstance(record, MediaPreset):
        printer = Printer.objects.filter(model=record.printer_model).first()
        return HandlingForm(record.handling, preset_in_force(record, printer), posted) if printer else None
    if isinstance(record, PrintMode):
        return HandlingForm(record.handling, in_force(record), posted)
    return None


def _save(
    request: HttpRequest,
    kind: Kind,
    record: Any,
    form: RecordForm,
    handling: HandlingForm | None,
    abilities: AbilitiesForm | None,
) -> HttpResponse | None:
    """Save what was sent and lead on; None when something in it is wrong."""
    fine = form.is_valid()
    if handling is not None and not handling.is_valid():
        form.add_error(None, "A value lies outside what can be held; nothing was saved.")
        return None
    if not fine:
        return None
    values = form.values()
    if handling is not None:
        values |= handling.cleaned
    if abilities is not None and request.POST.get("abilities"):
        try:
            values |= abilities.values()
        except ValueError:
            raise BadInput("a range is written in numbers") from None
    for field, side in _taken(kind, request.POST).items():
        if side == "theirs":
            now = kind.flat(record)
            values[field] = now.get(field)
    made = editing.edit(
        kind, record.pk, form.cleaned_data["version"], values, request.user, form.cleaned_data["why"]
    )
    messages.success(
        request, f"{made} saved." if made.version != form.cleaned_data["version"] else "Nothing was changed."
    )
    return redirect(kind.address, pk=record.pk)


def _taken(kind: Kind, posted: QueryDict) -> dict[str, str]:
    """Which side was chosen for each field on a merge page; `BadInput` where both changed one and nobody
    decided.
    """
    taken = {k.removeprefix("take:"): v for k, v in posted.items() if k.startswith("take:")}
    if open_ := [kind.label(f) for f in posted.getlist("clash") if f not in taken]:
        raise BadInput(
            f"both of you changed {', '.join(open_)}; decide which of the two stands, then save again"
        )
    return taken  # type: ignore[return-value]


def _merge_page(request: HttpRequest, kind: Kind, crossed: editing.EditConflict) -> HttpResponse:
    """Both versions side by side; what only one person changed is chosen already."""
    found, record = crossed.merge, crossed.record
    now = kind.flat(record)
    rows = []
    for clash in found.clashes:
        rows.append(
            {"field": clash.field, "base": clash.base, "theirs": clash.theirs, "mine": clash.mine, "take": ""}
        )
    for field in (*found.theirs, *found.mine):
        if field in found.theirs and field in found.mine:
            continue  # both made the same change
        side = "theirs" if field in found.theirs else "mine"
        value = found.values.get(field)
        rows.append(
            {
                "field": field,
                "base": None,
                "theirs": now.get(field),
                "mine": value if side == "mine" else None,
                "take": side,
            }
        )
    for row in rows:
        row |= {
            "label": kind.label(row["field"]),
            **{f"{s}_text": kind.format_value(row["field"], row[s]) for s in ("base", "theirs", "mine")},
        }
    asked = {"version", "clash", "csrfmiddlewaretoken", *(f"take:{row['field']}" for row in rows)}
    kept = [  # with what was chosen on a merge page before this one, where nobody changed that field since
        (k, v) for k, values in request.POST.lists() for v in values if k not in asked
    ]  # type: ignore[union-attr]
    last = record.history.select_related("history_user").first()
    context = {
        "kind": kind,
        "record": record,
        "rows": rows,
        "kept": kept,
        "who": crossed.who,
        "last": last,
        "clashes": len(found.clashes),
    }
    return render(request, "library/merge.html", context, status=409)


def record_new(request: HttpRequest, kind_key: str) -> HttpResponse:
    """A new record of a kind."""
    kind = record_type_named(kind_key)
    if kind.key == "modes":
        return redirect("new-build")
    initial = {
        "version": 1,
        "why": "new",
        **{k: v for k, v in request.GET.items() if k in ("media", "printer_model", "media_class", "name")},
    }
    form = form_of(kind, new=True)(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        record: Any = kind.model()
        kind.put(record, {f: v for f, v in form.values().items() if v not in (None, "")})
        if isinstance(record, MediaPreset):
            record.made_by = request.user
        try:
            editing.create(record, request.user, form.cleaned_data["why"])
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, f"{record} is in the library.")
            return redirect(kind.address, pk=record.pk)
    status = 422 if request.method == "POST" else 200
    return render(request, "library/record_new.html", {"kind": kind, "form": form}, status=status)


@require_GET
def record_list(request: HttpRequest, kind_key: str) -> HttpResponse:
    """All records of a kind."""
    kind = record_type_named(kind_key)
    return render(
        request,
        "library/record_list.html",
        {"kind": kind, "rows": presenters.list_of(kind), "heads": presenters.HEADS[kind.key]},
    )


@require_GET
def record_history(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """The whole history, two versions of it side by side."""
    kind = record_type_named(kind_key)
    record = record_or_404(kind, pk)
    entries = editing.history(record, 200)
    a, b = request.GET.get("a", ""), request.GET.get("b", "")
    if not (a.isdecimal() and b.isdecimal()) and len(entries) > 1:
        a, b = str(entries[1].pk), str(entries[0].pk)
    rows = editing.side_by_side(record, int(a), int(b)) if a.isdecimal() and b.isdecimal() else []
    context = {
        "kind": kind,
        "record": record,
        "entries": entries,
        "rows": rows,
        "a": next((e for e in entries if str(e.pk) == a), None),
        "b": next((e for e in entries if str(e.pk) == b), None),
        "may_change": _may_change(request, kind, record),
    }
    return render(request, "library/history.html", context)


@require_POST
def record_go_back(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """Back to an older version."""
    kind = record_type_named(kind_key)
    record_or_404(kind, pk)
    entry, version = request.POST.get("entry", ""), request.POST.get("version", "")
    if not (entry.isdecimal() and version.isdecimal()):
        raise BadInput("choose the version to go back to")
    why = request.POST.get("why", "").strip() or "no reason given"
    record = editing.go_back(kind, pk, int(entry), int(version), request.user, why)
    messages.success(request, f"{record} is as it was; this is a new version, so nothing is lost.")
    return redirect(kind.address, pk=pk)


@require_POST
def record_remove(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """Take a record away that nothing is based on."""
    kind = record_type_named(kind_key)
    record = record_or_404(kind, pk)
    version = request.POST.get("version", "")
    name = editing.remove(
        kind,
        record.pk,
        int(version) if version.isdecimal() else 0,
        request.user,
        request.POST.get("why", "").strip(),
    )
    messages.success(request, f"{name} was removed.")
    return redirect(kind.list_address)


@require_POST
def class_start(request: HttpRequest, pk: int) -> HttpResponse:
    """The starting values of a class's family."""
    group = start_class(get_object_or_404(MediaClass, pk=pk), request.user)
    messages.success(
        request,
        f"{group.name} holds starting values for a {group.get_family_display()} now, each with its reason.",
    )
    return redirect("media-class", pk=pk)


# --- files -----------------------------------------------------------------------------------


def _owner(kind_key: str, pk: int) -> models.Model:
    if kind_key in ("curves", "limits"):
        return get_object_or_404(KeptText if kind_key == "curves" else LimitSet, pk=pk)
    return record_or_404(record_type_named(kind_key), pk)  # type: ignore[no-any-return]


def address_of(record: Any) -> str:
    """The name of the page of a record."""
    if isinstance(record, KeptText):
        return "curve-set"
    return "limit-set" if isinstance(record, LimitSet) else record_type_of(record).address


@require_POST
def file_add(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    owner = _owner(kind_key, pk)
    sent = request.FILES.get("file")
    if sent is None:
        raise BadInput("choose a file first")
    made = editing.attach(
        owner, str(sent.name), content_of(sent), request.POST.get("note", "").strip(), request.user
    )
    messages.success(request, f"{made.name} is kept beside {owner}.")
    return redirect(address_of(owner), pk=pk)


@require_POST
def file_remove(request: HttpRequest, pk: int) -> HttpResponse:
    found = get_object_or_404(Attachment.objects.defer("data"), pk=pk)
    owner = found.owner
    editing.detach(pk, request.user)
    messages.success(request, f"{found.name} was taken away.")
    return redirect(address_of(owner), pk=found.object_id)


@require_GET
def file_get(request: HttpRequest, pk: int) -> HttpResponse:
    """A kept file: pictures and PDF are shown, everything else is saved; a browser runs none of it."""
    found = get_object_or_404(Attachment, pk=pk)
    shown = found.kind != "application/octet-stream"
    name = "".join(c if c.isalnum() or c in " .-_" else "_" for c in found.name)
    return HttpResponse(
        bytes(found.data),
        content_type=found.kind,
        headers={
            "Content-Disposition": f'{"inline" if shown else "attachment"}; filename="{name}"',
            "X-Content-Type-Options": "nosniff",
            "Content-Security-Policy": (
                "default-src 'none'; img-src 'self'; object-src 'self'; style-src 'unsafe-inline'; sandbox"
            ),
        },
    )


@require_POST
def notes_save(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """Notes on curves or limits."""
    owner = _owner(kind_key, pk)
    if not isinstance(owner, KeptText | LimitSet):
        raise BadInput("notes of this record are changed with its facts")
    typed = request.POST.get("notes", "").replace("\r\n", "\n").strip()
    try:
        editing.set_notes(owner, typed, request.POST.get("was", ""), request.user)
    except editing.Outdated as error:
        owner.refresh_from_db()
        return _content_page(request, kind_key, owner, {"typed": typed, "crossed": error.sentence}, 409)
    messages.success(request, "Notes saved.")
    return redirect(address_of(owner), pk=pk)


@require_GET
def content_list(request: HttpRequest, kind_key: str) -> HttpResponse:
    """All curves, or all limits, with the modes that use them."""
    context = {"kind_key": kind_key, "rows": presenters.contents(kind_key)}
    return render(request, "library/content_list.html", context)


@require_GET
def curves_file(request: HttpRequest, pk: int) -> HttpResponse:
    """Curves as they are kept, CSV."""
    found = get_object_or_404(KeptText, pk=pk, kind=KeptText.Kind.CURVES)
    headers = {"Content-Disposition": f'attachment; filename="curves-{found.sha256[:8]}.csv"'}
    return HttpResponse(found.text, content_type="text/csv; charset=utf-8", headers=headers)


@require_GET
def content_page(request: HttpRequest, kind_key: str, pk: int) -> HttpResponse:
    """One set of curves, or of limits."""
    return _content_page(request, kind_key, _owner(kind_key, pk))


def _content_page(
    request: HttpRequest, kind_key: str, owner: Any, more: dict[str, Any] | None = None, status: int = 200
) -> HttpResponse:
    """The page of curves or limits; `more` are notes that met others on their way in."""
    context = {
        "kind_key": kind_key,
        "record": owner,
        "files": editing.files_of(owner),
        "may_change": may(request.user, MAKE),
        "noted": noted(owner)[:12],
        "was": editing.digest_of(owner.notes),
        **presenters.content_page(owner),
        **(more or {}),
        "shown_notes": (more or {}).get("typed", owner.notes),
    }
    return render(request, "library/content_page.html", context, status=status)
