"""The wall, where artwork hangs, and the list of jobs."""

from __future__ import annotations

from django.contrib import messages
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import USE, takes
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, intake, jobs, outcomes, queries
from greyanchor.printroom.choices import checked
from greyanchor.printroom.models import Artwork, HotFolder, Job

MOST_FILES = 200


@require_GET
def artwork_list(request: HttpRequest) -> HttpResponse:
    """The wall; a part of it for narrowing."""
    found = queries.wall(request.GET)
    name = "printroom/_wall.html" if request.headers.get("HX-Target") == "wall" else "printroom/wall.html"
    folders = HotFolder.objects.filter(active=True)
    return render(request, name, {"wall": found, "busy": _busy(), "folders": folders})


def _busy() -> int:
    active = (Artwork.State.QUEUED, Artwork.State.RUNNING)
    return Artwork.objects.filter(state__in=active).count()


@require_GET
def artwork_part(request: HttpRequest) -> HttpResponse:
    """The wall while files are examined."""
    return render(request, "printroom/_wall.html", {"wall": queries.wall(request.GET), "busy": _busy()})


@takes(USE)
@require_POST
def artwork_add(request: HttpRequest) -> HttpResponse:
    """Files that were dropped on the wall or chosen."""
    sent = request.FILES.getlist("files")
    if not 1 <= len(sent) <= MOST_FILES:
        messages.error(request, f"Choose 1 to {MOST_FILES} files; {len(sent) or 'none'} came.")
        return redirect("artwork")
    new, known, refused = 0, [], []
    for file in sent:
        try:
            artwork, fresh = intake.add(file, str(file.name), request.user)  # type: ignore[arg-type]
        except BadInput as error:
            refused.append(str(error))
            continue
        new += fresh
        if not fresh:
            known.append(artwork.name)
    if new:
        messages.success(request, f"{new} file{'s' * (new > 1)} taken in.")
    if known:
        messages.info(request, f"Here already, with the same content: {', '.join(known[:4])}.")
    for line in refused[:6]:
        messages.error(request, f"{line}. Nothing of it was kept.")
    return redirect("artwork")


@require_GET
def artwork_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The file as it came."""
    artwork = get_object_or_404(Artwork, pk=pk)
    return FileResponse(files.opened(artwork.file), as_attachment=True, filename=artwork.name)


@require_GET
def artwork_modes(request: HttpRequest, pk: int) -> HttpResponse:
    """An artwork on every released mode, before anybody made a job of it."""
    artwork = get_object_or_404(Artwork, pk=pk)
    width = request.GET.get("width", "").strip()
    choices, trouble = {}, ""
    try:
        choices = checked({"width_mm": parse_number(width)}) if width else {}
    except BadInput as error:
        trouble = error.sentence
    job = Job(artwork=artwork, name=artwork.name, choices=choices)
    found = outcomes.ranked(job, outcomes.candidates(job)) if artwork.raster else []
    context = {"artwork": artwork, "found": found, "width": width, "trouble": trouble, "job": job}
    return render(request, "printroom/artwork_modes.html", context)


@takes(USE)
@require_POST
def artwork_job(request: HttpRequest, pk: int) -> HttpResponse:
    """Make a job of a page, on the mode that is named or on the one this person used last."""
    artwork = get_object_or_404(Artwork, pk=pk)
    page, mode = request.POST.get("page", "1"), request.POST.get("mode", "")
    try:
        if not page.isdecimal() or len(page) > 5:
            raise BadInput(f"{page[:20]!r} is no page")
        chosen = get_object_or_404(PrintMode, pk=int(mode)) if mode.isdecimal() else _usual_mode(request)
        made = jobs.make_job(artwork, request.user, chosen, int(page))  # type: ignore[arg-type]
    except BadInput as error:
        messages.error(request, error.sentence)
        return redirect("artwork")
    return redirect("job", made.pk)


def _usual_mode(request: HttpRequest) -> PrintMode | None:
    """The mode of this person's newest job, else the released mode that passed its check most recently."""
    released = PrintMode.objects.filter(state=PrintMode.State.RELEASED, profile__isnull=False)
    last = Job.objects.filter(made_by=request.user.pk, mode__in=released).order_by("-pk").first()
    if last is not None:
        return last.mode
    return released.order_by("-last_verdict", "-released_at").first()


@takes(USE)
@require_POST
def artwork_again(request: HttpRequest, pk: int) -> HttpResponse:
    """Examine once more."""
    try:
        intake.examine_again(get_object_or_404(Artwork, pk=pk))
    except BadInput as error:
        messages.error(request, error.sentence)
    return redirect("artwork")


@require_GET
def job_list(request: HttpRequest) -> HttpResponse:
    """Jobs, newest first."""
    name = "printroom/_jobs.html" if request.headers.get("HX-Target") == "jobs" else "printroom/jobs.html"
    return render(request, name, queries.jobs(request.GET))
