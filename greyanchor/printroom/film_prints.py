"""Plates printed on film: each as it is, with as much ink in its dots as the film mode has found."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PIL import Image

from greyanchor.core.errors import BadInput
from greyanchor.core.separation.plates.on_film import FilmPrinted, film_planes
from greyanchor.core.separation.prepare import Progress, quiet
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, rasters
from greyanchor.printroom.models import Job

#: choices of a job that a film cannot have: it is printed as its plate was made
_NONE = ("width_mm", "crop", "quarters", "mirrored", "margin_mm")


def solid_of(mode: PrintMode) -> dict[str, float]:
    """How much of each ink a dot on film holds, fractions."""
    return {c: float(mode.limits.get(c, 0.0)) / 100.0 for c in mode.ink_set.raw_channels}


def print_film(
    job: Job,
    mode: PrintMode,
    choices: Mapping[str, Any],
    output: str | Path,
    ticket: Mapping[str, Any],
    report: Progress = quiet,
) -> FilmPrinted:
    """Prepare a film. Raises `BadInput` for a job that changes its plate, or is none."""
    changed = [name for name in _NONE if choices[name]]
    if changed or int(choices["panels"]) > 1:
        raise BadInput("a film is printed as its plate was made: make the plate again, larger or turned")
    resolution = float(mode.environment["resolution"])
    source = files.local(job.artwork.file)
    return film_planes(source, solid_of(mode), resolution, output, ticket, report, resume=True)


def seen(job: Job, most: int) -> Image.Image:
    """A film small, black on clear."""
    picture = rasters.level(job.artwork, job.page, 0)
    share = min(1.0, most / max(picture.width, picture.height))
    size = max(1, round(picture.width * share)), max(1, round(picture.height * share))
    pixels = picture.scaled(*size).pixels()
    return Image.fromarray(pixels[:, :, 0]).convert("RGB")
