"""Pictures of the print room: small ones for the wall, tiles and the loupe for the light table."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import reverse
from django.utils.http import urlencode
from django.views.decorators.http import require_GET
from PIL import Image

from greyanchor.core.artwork.pictures import Picture
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation import views
from greyanchor.core.separation.halftone.screens import Screen
from greyanchor.core.separation.layers import conversion_of
from greyanchor.core.separation.prepare import planes_of, small
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import files, preparing, rasters, run_preparing
from greyanchor.printroom.links import link_of, order_of
from greyanchor.printroom.models import Artwork, Job, PrintFile

#: side of the loupe's square, mm
LOUPE_MM = 10.0
_KEPT = {"Cache-Control": "private, max-age=86400, immutable"}


@require_GET
def thumbnail(request: HttpRequest, pk: int) -> HttpResponse:
    """The small picture of an artwork."""
    artwork = get_object_or_404(Artwork.objects.only("thumbnail"), pk=pk)
    if not artwork.thumbnail:
        raise Http404("no picture yet")
    return FileResponse(files.opened(artwork.thumbnail), content_type="image/jpeg", headers=_KEPT)


def _png(pixels: np.ndarray) -> HttpResponse:
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, format="PNG", compress_level=1)
    return HttpResponse(out.getvalue(), content_type="image/png", headers=_KEPT)


def _job(pk: int) -> Job:
    wanted = Job.objects.select_related("artwork", "mode__printer", "mode__media").defer(
        "outcomes", "undo", "redo"
    )
    return get_object_or_404(wanted, pk=pk)


@require_GET
def tile(request: HttpRequest, pk: int, kind: str, level: str, x: str, y: str) -> HttpResponse:
    """A tile of one view of a job; `level` 0 is the finest. The address changes with the job's choices."""
    job = _job(pk)
    if kind in ("resolution", "contours"):
        kind = "art"
    if kind not in views.KINDS:
        raise Http404("no such view")
    picture = rasters.level(job.artwork, job.page, int(level))
    left, top = int(x) * rasters.TILE, int(y) * rasters.TILE
    if left >= picture.width or top >= picture.height:
        raise Http404("outside")
    wide, tall = min(rasters.TILE, picture.width - left), min(rasters.TILE, picture.height - top)
    part = picture.cropped(left, top, wide, tall)
    ink = request.GET.get("ink", "")
    try:
        choices = {**chosen.of_job(job), **_tried(request)}
        return _png(_drawn(job, choices, part, kind, ink, left, top))
    except BadInput as error:
        raise Http404(error.sentence) from error


def _tried(request: HttpRequest) -> dict[str, Any]:
    """A nudge that is only looked at: the address has it, the job has not."""
    query = request.GET
    if "lightness" not in query:
        return {}
    numbers = {k: parse_number(query.get(k, "") or "0") for k in ("lightness", "contrast")}
    inks = {k[4:]: parse_number(v) / 100.0 for k, v in query.items() if k.startswith("ink_") and v.strip()}
    return {**numbers, "inks": {k: v for k, v in inks.items() if v}}


def _drawn(
    job: Job, choices: dict[str, Any], part: Picture, kind: str, ink: str, left: int, top: int
) -> np.ndarray:
    if job.mode is None or job.mode.profile_id is None:
        return rasters.as_it_comes(part, job.artwork, job.page)
    link = link_of(part, job, job.mode, choices)
    names = (*link.mode.channels, *(p.channel for p in link.mode.planes))
    number = names.index(ink) if ink in names else 0
    return views.render(link, part.pixels(), kind, number, left, top)


@require_GET
def loupe(request: HttpRequest, pk: int) -> HttpResponse:
    """A square centimetre of the print around a place, given in shares of the page, with its real dots."""
    job = _job(pk)
    if job.mode is None:
        raise Http404("no mode")
    at = _place(request)
    choices = chosen.of_job(job)
    order = order_of(job, job.mode, {**choices, "crop": None, "quarters": 0, "mirrored": False})
    width, height = preparing.size_mm(job)
    dots = order.resolution or 600.0
    side = round(LOUPE_MM / 25.4 * dots)
    columns, rows = max(side, round(width / 25.4 * dots)), max(side, round(height / 25.4 * dots))
    left, top = (min(max(round(a * n - side / 2), 0), n - side) for a, n in zip(at, (columns, rows)))
    picture = rasters.level(job.artwork, job.page, 0)
    link = link_of(picture, job, job.mode, choices)
    tones = planes_of(picture, (columns, rows), (left, top, side, side), dots, conversion_of(link))
    assert order.screen is not None
    levels = [
        Screen(order.screen.of_ink(ink), dots, side, i).levels(np.ascontiguousarray(tones[i]), top, left)
        for i, ink in enumerate(link.inks)
    ]
    return _png(views.dots(link, levels))


@require_GET
def colour_at(request: HttpRequest, pk: int) -> HttpResponse:
    """The spot colours nearest to what the art asks for at a place, given in shares of the page."""
    job = _job(pk)
    if job.mode is None:
        raise Http404("no mode")
    at = _place(request)
    finest = rasters.level(job.artwork, job.page, 0)
    coarse = max(0, rasters.levels(finest.width, finest.height) - 3)
    picture = rasters.level(job.artwork, job.page, coarse)
    pixels = picture.pixels()
    x, y = (min(int(a * n), n - 1) for a, n in zip(at, (pixels.shape[1], pixels.shape[0])))
    around = pixels[max(y - 1, 0) : y + 2, max(x - 1, 0) : x + 2].reshape(-1, pixels.shape[2])
    link = link_of(picture, job, job.mode, chosen.of_job(job))
    lab = link.asked_lab(around / float(np.iinfo(pixels.dtype).max)).mean(axis=0)
    query = urlencode({"q": " ".join(f"{v:.1f}" for v in lab), "mode": job.mode_id})
    return redirect(f"{reverse('spots')}?{query}")


def _place(request: HttpRequest) -> list[float]:
    """Shares of the page from the left and from the top."""
    try:
        return [min(max(float(request.GET.get(name, "0.5")), 0.0), 1.0) for name in ("x", "y")]
    except ValueError as error:
        raise Http404("no place") from error


@require_GET
def print_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The planes."""
    record = get_object_or_404(PrintFile.objects.select_related("job", "run"), pk=pk)
    if not record.file:
        raise Http404("not prepared yet")
    name = f"{str(record).rsplit('.', 1)[0]}-{record.pk}.tif"
    return FileResponse(files.opened(record.file), as_attachment=True, filename=name)


@require_GET
def print_picture(request: HttpRequest, pk: int, which: str) -> HttpResponse:
    """The print as the printer shows it, or the artwork in the same size beside it."""
    record = get_object_or_404(PrintFile.objects.select_related("job__artwork", "mode"), pk=pk)
    if which == "print":
        if not record.picture:
            raise Http404("no picture of the print")
        return FileResponse(files.opened(record.picture), content_type="image/png", headers=_KEPT)
    if record.job is None:
        path = files.local(run_preparing.art_name(record))
        if not path.exists():
            raise Http404("not prepared yet")
        return FileResponse(open(path, "rb"), content_type="image/png", headers=_KEPT)
    shape = chosen.shape_of(chosen.of_print_file(record), record.job.page)
    picture = shape.upright(rasters.level(record.job.artwork, record.job.page, 0))
    pixels = small(picture, shape.part)
    if record.mode is None:
        raise Http404("no mode")
    try:
        link = link_of(picture, record.job, record.mode, chosen.of_print_file(record))
        return _png(views.render(link, pixels, "art"))
    except BadInput as error:
        raise Http404(str(error)) from error
