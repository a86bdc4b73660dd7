"""Pages of packs and of the supplier's catalogue."""

from __future__ import annotations

import io
from typing import Any

from django.contrib import messages
from django.db.models import Q
from django.http import FileResponse, HttpRequest, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, RELEASE, may, takes
from greyanchor.background import work
from greyanchor.background.parts import stale
from greyanchor.core.errors import BadInput
from greyanchor.library.models import (
    Edition,
    InkSet,
    MediaClass,
    Offer,
    PackExport,
    PackImport,
    Printer,
    PrintMode,
    Shelf,
)
from greyanchor.library.modes import search
from greyanchor.library.modes.views import file_response
from greyanchor.library.packs import builder, catalogue, exporting, import_plan, importing
from greyanchor.profiles.services import content_of

_ENDINGS = (".icc", ".icm")


@require_GET
def pack_list(request: HttpRequest) -> HttpResponse:
    """Packs that came in, and where one goes out."""
    imports = PackImport.objects.select_related("started_by").defer("plan", "choices")[:40]
    out = PackExport.objects.select_related("started_by").defer("modes")[:12]
    return render(
        request,
        "library/packs.html",
        {"imports": imports, "exports": out, "may_make": may(request.user, MAKE)},
    )


@takes(MAKE)
@require_POST
def pack_receive(request: HttpRequest) -> HttpResponse:
    """A pack, a ZIP of profiles, or loose profiles were sent."""
    sent = request.FILES.getlist("file")
    if not sent:
        raise BadInput("choose a pack, or profiles, first")
    loose = (
        request.POST.get("kind") == "profiles"
        or len(sent) > 1
        or str(sent[0].name).lower().endswith(_ENDINGS)
    )
    if loose:
        job = importing.receive_profiles([(str(f.name), content_of(f)) for f in sent], request.user)
    else:
        job = importing.receive(str(sent[0].name), sent[0].chunks(), request.user)
    return redirect("pack", pk=job.pk)


def _job(pk: int) -> PackImport:
    return get_object_or_404(PackImport.objects.select_related("started_by"), pk=pk)


@require_GET
def pack_page(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "library/pack.html", _context(request, _job(pk)))


@require_GET
def pack_part(request: HttpRequest, pk: int) -> HttpResponse:
    """How the import goes; the whole page once it waits for a person or is over."""
    job = _job(pk)
    answer = render(request, "library/_pack.html", _context(request, job))
    if not job.is_active:
        for name, value in stale("The import went on.").items():
            answer[name] = value
    return answer


def _context(request: HttpRequest, job: PackImport) -> dict[str, Any]:
    plan = job.plan or {}
    context: dict[str, Any] = {
        "job": job,
        "plan": plan,
        "may_make": may(request.user, MAKE),
        "may_release": may(request.user, RELEASE),
    }
    if job.is_decidable and job.kind == PackImport.Kind.PACK:
        context |= {
            "printers": Printer.objects.all(),
            "ink_sets": InkSet.objects.all(),
            "media_classes": MediaClass.objects.all(),
            "ways": import_plan.ON_CLASH,
            "counts": {
                a: sum(m["action"] == a for m in plan["modes"])
                for a in (import_plan.CREATE, import_plan.SAME, import_plan.CLASH)
            },
            "released": sum(m["state"] == "released" for m in plan["modes"]),
            "changing": [m for m in plan["modes"] if m["action"] == import_plan.CLASH],
        }
    return context


@takes(MAKE)
@require_POST
def pack_decide(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the choices and import."""
    job = _job(pk)
    importing.decide(pk, _choices(request, job), request.user)
    return redirect("pack", pk=pk)


def _choices(request: HttpRequest, job: PackImport) -> dict[str, Any]:
    """Choices of the form: names are sent by their place in the plan, so that any name can be one."""
    if job.kind == PackImport.Kind.PROFILES:
        return {"take": request.POST.getlist("take")}
    facts: dict[str, Any] = {"state": request.POST.get("state", "review")}
    for kind in ("printers", "ink_sets", "media_classes"):
        facts[kind] = {}
        for i, row in enumerate(job.plan.get(kind, [])):
            value = request.POST.get(f"{kind}.{i}")
            if value is not None:
                facts[kind][row["name"]] = int(value) if value.isdecimal() else None
    for kind in ("presets", "modes"):
        facts[kind] = {}
        for i, row in enumerate(job.plan.get(kind, [])):
            value = request.POST.get(f"{kind}.all") or request.POST.get(f"{kind}.{i}")
            if value and row["action"] == import_plan.CLASH:
                facts[kind][row["name"]] = value
    return facts


@require_POST
def pack_cancel(request: HttpRequest, pk: int) -> HttpResponse:
    job = _job(pk)
    work.cancel(PackImport, pk)
    if job.is_decidable:
        PackImport.objects.filter(pk=pk).update(
            state=PackImport.State.CANCELLED, step=PackImport.Step.TEST, message="cancelled"
        )
        importing.drop(job)
    messages.info(request, f"{job.name} is not imported; nothing of it was written.")
    return redirect("packs")


@require_POST
def pack_again(request: HttpRequest, pk: int) -> HttpResponse:
    importing.again(_job(pk).pk, request.user)
    return redirect("pack", pk=pk)


# --- packs that go out -----------------------------------------------------------------------


@require_GET
def modes_pack(request: HttpRequest) -> HttpResponse:
    """The chosen modes, or all that an address narrows to: a few are packed at once, for more a label is
    asked.
    """
    pks = _meant(request.GET, request.user)
    builder.refuse_too_many(len(pks))
    if len(pks) > exporting.AT_ONCE:
        context = {"count": len(pks), "query": request.GET.urlencode(), "title": request.GET.get("title", "")}
        return render(request, "library/pack_label.html", context)
    out = io.BytesIO()
    count = builder.pack_modes(pks, builder.Label(request.GET.get("title", "").strip() or "Print modes"), out)
    return HttpResponse(
        out.getvalue(),
        content_type="application/zip",
        headers={"Content-Disposition": f'attachment; filename="{count}-modes.zip"'},
    )


def _meant(query: QueryDict, user: Any) -> list[int]:
    """Modes that an address names, or all it narrows to; `BadInput` where some were to be ticked and
    none is.
    """
    pks = search.named_pks(query)
    if not pks and query.get("ticked"):
        raise BadInput("tick the print modes that go into the pack first")
    return pks or search.find(query, user).all_pks


@require_POST
def export_order(request: HttpRequest) -> HttpResponse:
    """Queue a pack of the modes that a kept address names or narrows to."""
    query = QueryDict(request.POST.get("query", ""))
    pks = _meant(query, request.user)
    facts = {name: request.POST.get(name, "") for name in ("title", "maker", "note")}
    job = exporting.order(pks, builder.Label(**facts), request.user)
    return redirect("export", pk=job.pk)


def _export(pk: int) -> PackExport:
    return get_object_or_404(PackExport.objects.select_related("started_by"), pk=pk)


@require_GET
def export_page(request: HttpRequest, pk: int) -> HttpResponse:
    """How the writing of a pack goes, and the pack once it is whole."""
    return render(request, "library/export.html", {"job": _export(pk)})


@require_GET
def export_part(request: HttpRequest, pk: int) -> HttpResponse:
    return render(request, "library/_export.html", {"job": _export(pk)})


@require_GET
def export_file(request: HttpRequest, pk: int) -> HttpResponse:
    """A pack that was written."""
    job = _export(pk)
    path = exporting.path_of(job)
    if job.state != PackExport.State.DONE or not path.exists():
        raise BadInput(f"{job.title} is no longer on the server; pack the modes again")
    plain = "".join(c if c.isalnum() or c in "-_." else "-" for c in job.title).strip("-") or "modes"
    return FileResponse(
        path.open("rb"), as_attachment=True, filename=f"{plain}.zip", content_type="application/zip"
    )


@require_POST
def export_act(request: HttpRequest, pk: int) -> HttpResponse:
    """Stop a pack that is being written, or start it again."""
    job = _export(pk)
    if request.POST.get("act") == "stop":
        exporting.stop(job, request.user)
    else:
        exporting.again(job, request.user)
    return redirect("export", pk=pk)


# --- the catalogue ---------------------------------------------------------------------------


@require_GET
def catalogue_page(request: HttpRequest) -> HttpResponse:
    """What the supplier's catalogue offers, searched by maker, class, printer and words."""
    shelf = catalogue.ask_when_stale()
    offers, held = Offer.objects.all(), catalogue.here()
    chosen = {name: request.GET.get(name, "").strip() for name in ("q", "maker", "class", "printer")}
    for field, name in (("maker", "maker"), ("media_class", "class"), ("printer", "printer")):
        if chosen[name]:
            offers = offers.filter(**{f"{field}__icontains": chosen[name]})
    for word in chosen["q"].split():
        offers = offers.filter(
            Q(title__icontains=word)
            | Q(note__icontains=word)
            | Q(maker__icontains=word)
            | Q(media_class__icontains=word)
            | Q(printer__icontains=word)
        )
    rows = []
    for offer in offers:
        have = held.get(offer.key)
        newer = have is not None and catalogue.version_key(offer.version) > catalogue.version_key(
            have.version
        )
        rows.append({"offer": offer, "have": have, "newer": newer})
    everything = Offer.objects.all()
    choices = {
        name: sorted(
            {part for value in everything.values_list(field, flat=True) for part in value.split(", ")}
        )
        for name, field in (("maker", "maker"), ("class", "media_class"), ("printer", "printer"))
    }
    context = {
        "shelf": shelf,
        "rows": rows,
        "chosen": chosen,
        "choices": choices,
        "may_make": may(request.user, MAKE),
        "address": catalogue.address(),
    }
    return render(request, "library/catalogue.html", context)


@takes(MAKE)
@require_POST
def catalogue_ask(request: HttpRequest) -> HttpResponse:
    shelf: Shelf = catalogue.ask()
    if shelf.trouble:
        messages.error(
            request,
            (
                f"{shelf.trouble[:1].upper()}{shelf.trouble[1:]}. Its last list stays; everything "
                "that is "
                "here works without it."
            ),
        )
    else:
        messages.success(request, f"The catalogue offers {Offer.objects.count()} packs.")
    return redirect("catalogue")


@takes(MAKE)
@require_POST
def catalogue_fetch(request: HttpRequest) -> HttpResponse:
    """Fetch a pack and look at what it would do."""
    try:
        job = catalogue.fetch(request.POST.get("key", ""), request.POST.get("version", ""), request.user)
    except BadInput as error:
        messages.error(request, f"{error.sentence} Nothing was changed.")
        return redirect(f"{reverse('catalogue')}")
    return redirect("pack", pk=job.pk)


@require_GET
def mode_pack(request: HttpRequest, pk: int) -> HttpResponse:
    """One mode as a pack."""
    mode = get_object_or_404(PrintMode.objects.only("name"), pk=pk)
    out = io.BytesIO()
    builder.pack_modes([pk], builder.Label(mode.name), out)
    return file_response(out.getvalue(), f"mode-{pk}.zip", "application/zip")


@require_GET
def edition_pack(request: HttpRequest, pk: int, number: int) -> HttpResponse:
    """One mode as it was in an edition, as a pack."""
    edition = get_object_or_404(
        Edition.objects.select_related("released_by", "curve_set"), mode=pk, number=number
    )
    out = io.BytesIO()
    builder.pack_edition(edition, out)
    return file_response(out.getvalue(), f"mode-{pk}-edition-{number}.zip", "application/zip")
