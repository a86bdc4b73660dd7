"""Background work of the print room: examining artwork, preparing jobs."""

from __future__ import annotations

from typing import Any

from greyanchor.background import queue, work
from greyanchor.core.artwork.inspection import edge_findings, examine
from greyanchor.core.errors import BadInput
from greyanchor.printroom import files, plates, preparing, rasters, run_preparing
from greyanchor.printroom.models import Artwork, PlateSet, PrintFile


def _with_edges(artwork: Artwork) -> dict[str, Any]:
    """Facts of a page file, with what only its drawing shows: where its art touches the edge."""
    finest = rasters.level(artwork, 1, 0)
    count = rasters.levels(finest.width, finest.height)
    small = rasters.level(artwork, 1, max(0, count - 3))
    pixels = small.pixels()
    if small.tagged:
        pixels = pixels[:, :, :-1]
    found = [f.facts() for f in edge_findings(pixels, small.kind)]
    artwork.facts = {**artwork.facts, "findings": [*artwork.findings, *found]}
    return artwork.facts


@queue.handles(Artwork)
def examine_artwork(pk: int) -> None:
    """Examine a file: its small picture first, then what is in it, then its first page for the screen."""
    artwork = Artwork.objects.get(pk=pk)
    report = work.progress_of(Artwork, pk)
    kept = Artwork.objects.filter(pk=pk)
    if thumbnail := rasters.make_thumbnail(artwork):
        kept.update(thumbnail=thumbnail)
    try:
        found = examine(files.local(artwork.file), lambda share, text: report(0.6 * share, text))
        artwork.facts = found.facts()
        kept.update(facts=artwork.facts)
        report(0.6, "drawing its first page")
        can_draw = not any(f.level == "stop" and "Ghostscript" in f.text for f in found.findings)
        if can_draw:
            kept.update(raster=rasters.make_raster(artwork))
            if artwork.kind != "picture":
                kept.update(facts=_with_edges(artwork))
    except BadInput as error:
        raise BadInput(error.reason, artwork.name, error.line) from None
    is_late = can_draw and (artwork.kind == "PDF" or not thumbnail)
    if is_late and (late := rasters.make_thumbnail(artwork)):
        kept.update(thumbnail=late)
    work.end(Artwork, pk, Artwork.State.DONE, "examined")


@queue.handles(PlateSet)
def make_plates(pk: int) -> None:
    """Make the plates of a job."""
    plates.make(pk)


@queue.handles(PrintFile)
def prepare(pk: int) -> None:
    """Prepare a job or a run."""
    is_run = PrintFile.objects.filter(pk=pk, run__isnull=False).exists()
    (run_preparing.prepare_run if is_run else preparing.prepare_print_file)(pk)
