"""Plates of a job: looked at before they are made, made, and laid on film."""

from __future__ import annotations

import io
import re
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.core.cache import cache
from django.core.files.base import File
from django.db import transaction
from django.utils import timezone
from PIL import Image

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue, work
from greyanchor.core.artwork.pictures import open_picture
from greyanchor.core.colour.colorimetry import lab_to_srgb
from greyanchor.core.errors import BadInput
from greyanchor.core.separation.plates.looking import colour_of, overlaid
from greyanchor.core.separation.plates.making import lattices_of, make_plates, warnings_of
from greyanchor.core.separation.plates.screening import overlap
from greyanchor.core.separation.plates.separations import open_separations
from greyanchor.core.verification.generic import generic_lab
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, intake, jobs, plate_choices, runs
from greyanchor.printroom.links import fingerprint
from greyanchor.printroom.models import Artwork, Job, PlateSet, Run
from greyanchor.printroom.recipes import spots_of
from greyanchor.printroom.tickets import edition_of

#: dots an inch of what is looked at before plates are made, and seconds for which that is kept
_COARSE, _KEPT = 40.0, 3600
#: longest side of a picture of plates, pixels
_PICTURE = 900
#: share of the art below which an ink is taken to be missing
_NOTHING = 1e-6


def film_modes() -> list[PrintMode]:
    """Released film modes, the newest first."""
    found = PrintMode.objects.filter(state=PrintMode.State.RELEASED, profile=None, curve_set__isnull=False)
    return [
        m for m in found.select_related("ink_set", "printer", "media").order_by("-pk") if m.ink_set.is_film
    ]


@dataclass(frozen=True)
class PlateView:
    """A plate before it is made.

    Attributes
    ----------
    ink
        Its name.
    colour
        Of its solid, ``#rrggbb``.
    percent
        Of the art that is ink.
    angle, frequency
        What its screen really has; None for screens without.
    asked
        The angle asked for.
    """

    ink: str
    colour: str
    percent: float
    angle: float | None
    frequency: float | None
    asked: float


@dataclass(frozen=True)
class Look:
    """A job as plates, before they are made: plates, and what is to be known, in words."""

    plates: tuple[PlateView, ...]
    warnings: tuple[str, ...]
    notes: tuple[str, ...]


def _coarse(job: Job, choices: Mapping[str, Any]) -> dict[str, Any]:
    """Inks with their coverage and amounts (inks, rows, columns) of 8 bits, from a coarse look; kept for a
    while.
    """
    own = {k: choices[k] for k in ("press", "fold", "overprint")}
    key = f"plates-{fingerprint(job.artwork.sha256, job.page, job.choices, own)}"
    held: dict[str, Any] | None = cache.get(key)
    if held is None:
        with open_separations(plate_choices.art_of(job, choices), _COARSE) as found:
            planes = found.planes(0, found.frame.window[3])
            held = {"inks": found.inks, "planes": (planes >> 8).astype(np.uint8), "kept": found.kept}
            held["notes"] = found.notes
        cache.set(key, held, _KEPT)
    return held


def look(job: Job, mode: PrintMode | None, choices: Mapping[str, Any]) -> Look:
    """What plates a job would have: inks, coverage, screens. Raises `BadInput` where it has none."""
    held = _coarse(job, choices)
    shares = held["planes"].reshape(len(held["inks"]), -1).mean(axis=1) / 255.0
    inks = [i for i, s in zip(held["inks"], shares) if held["kept"] or s > _NOTHING]
    if not inks:
        raise BadInput("the page is empty: there is nothing to make plates of")
    inks = in_order(inks, choices["order"], job)
    settings = plate_choices.settings_of(choices, mode, inks, "", _together(held, inks))
    made = lattices_of(settings.screens, settings.resolution)
    known = ink_colours(job)
    share = dict(zip(held["inks"], shares))
    plates = tuple(
        PlateView(
            ink,
            "#{:02x}{:02x}{:02x}".format(*colour_of(ink, known)),
            100.0 * float(share[ink]),
            made[ink].angle if ink in made else None,
            made[ink].frequency if ink in made else None,
            settings.screens[ink].angle,
        )
        for ink in inks
    )
    warnings = warnings_of(settings.screens, settings.resolution, settings.apart)
    return Look(plates, tuple(warnings), tuple(held["notes"]))


def _together(held: Mapping[str, Any], inks: Sequence[str]) -> np.ndarray[Any, Any]:
    return overlap(inks, held["inks"], held["planes"] / 255.0)


def in_order(inks: Sequence[str], order: Sequence[str], job: Job) -> list[str]:
    """Inks in the order that they are printed in: as chosen, then process inks, then spots from light to
    dark.
    """
    light = lightness_of(job)
    chosen_first = {ink: place for place, ink in enumerate(order)}

    def key(ink: str) -> tuple[int, float, float]:
        if ink in chosen_first:
            return 0, float(chosen_first[ink]), 0.0
        return (2, -light[ink], 0.0) if ink in light else (1, float(list(inks).index(ink)), 0.0)

    return sorted(inks, key=key)


def lightness_of(job: Job) -> dict[str, float]:
    """L* of spot colours that are known."""
    return {name: lab[0] for name, lab in _spot_labs(job).items()}


def ink_colours(job: Job) -> dict[str, tuple[int, int, int]]:
    """sRGB of spot colours that are known."""
    return {name: _srgb(lab) for name, lab in _spot_labs(job).items()}


def _spot_labs(job: Job) -> dict[str, list[float]]:
    """Lab of spot colours: as the library knows them, else as the file has them."""
    known: dict[str, list[float]] = {}
    pages = job.artwork.pages
    said = pages[job.page - 1].get("spots", {}) if 1 <= job.page <= len(pages) else {}
    for name, text in said.items():
        lab = _lab_of(str(text))
        if lab is not None:
            known[name] = lab
    for spot in spots_of(job.artwork, job.page, None) if pages else ():
        if spot.colour is not None:
            known[spot.name] = list(spot.colour.lab)
    return known


def _lab_of(text: str) -> list[float] | None:
    """Lab of what an examination said stands in for a spot colour."""
    numbers = [float(v) for v in re.findall(r"-?\d+(?:\.\d+)?", text.replace("L*", "").replace("a*", ""))]
    if text.startswith("L*") and len(numbers) >= 3:
        return numbers[:3]
    if text.startswith("C M Y K") and len(numbers) >= 4:
        return [float(v) for v in generic_lab(np.array([numbers[:4]]) / 100.0, tuple("CMYK"))[0]]
    return None


def _srgb(lab: Sequence[float]) -> tuple[int, int, int]:
    red, green, blue = (round(255 * float(v)) for v in lab_to_srgb([lab])[0])
    return red, green, blue


def picture(job: Job, choices: Mapping[str, Any], shown: Sequence[str] | None) -> bytes:
    """PNG of plates laid over one another in their colours; of those that are `shown`, or of all."""
    held = _coarse(job, choices)
    known = ink_colours(job)
    wanted = [i for i, ink in enumerate(held["inks"]) if shown is None or ink in shown]
    planes = held["planes"][wanted] / 255.0
    drawn = Image.fromarray(overlaid(planes, [colour_of(held["inks"][i], known) for i in wanted]))
    drawn.thumbnail((_PICTURE, _PICTURE))
    out = io.BytesIO()
    drawn.save(out, format="PNG")
    return out.getvalue()


# --- making --------------------------------------------------------------------------------------


@needs(USE)
@transaction.atomic
def order_plates(job: Job, mode: PrintMode | None, values: Mapping[str, Any], user: User | None) -> PlateSet:
    """Queue the making of plates; what the job chooses later changes none of them. Raises `BadInput` for
    choices that cannot be, and a film mode that is not released.
    """
    if mode is not None and (not mode.ink_set.is_film or mode.state != PrintMode.State.RELEASED):
        raise BadInput(f"{mode.name} is no released film mode")
    made = PlateSet.objects.create(
        job=job,
        mode=mode,
        edition=edition_of(mode) if mode else 0,
        choices=plate_choices.checked(values, mode),
        job_choices=job.choices,
        started_by=user,
        message="waiting for the worker",
    )
    queue.start(made)
    return made


def folder_of(pk: int) -> str:
    """Where the files of a set lie."""
    return f"plates/{pk}"


def make(pk: int) -> None:
    """Make the plates of a set, all of them or none."""
    record = PlateSet.objects.select_related("job__artwork", "mode__ink_set", "mode__curve_set").get(pk=pk)
    choices = {**plate_choices.USUAL, **record.choices}
    job, mode = record.job, record.mode
    job.choices = record.job_choices
    report = work.progress_of(PlateSet, pk)
    folder = files.local(folder_of(pk))
    shutil.rmtree(folder, ignore_errors=True)  # of a worker that was killed
    art = plate_choices.art_of(job, choices)
    report(0.0, "separating")
    try:
        with open_separations(art, plate_choices.resolution_of(choices, mode)) as found:
            inks = in_order(found.inks, choices["order"], job)
            choices["order"] = inks
            settings = plate_choices.settings_of(
                choices, mode, inks, _words(record), _together(_coarse(job, choices), inks), lightness_of(job)
            )
            ticket = {"job": job.pk, "artwork": job.artwork.sha256, "film_mode": mode.name if mode else ""}
            done = make_plates(
                found,
                settings,
                folder,
                {**ticket, "edition": record.edition, "choices": fingerprint(record.choices)},
                lambda share: report(0.1 + 0.9 * share, f"{100 * share:.0f} % screened"),
            )
    except BadInput as error:
        raise BadInput(error.reason, job.artwork.name) from error
    files.share(folder_of(pk))
    PlateSet.objects.filter(pk=pk).update(facts=done.facts())
    work.end(PlateSet, pk, PlateSet.State.DONE, f"{len(done.plates)} plates")


def _words(record: PlateSet) -> str:
    """What stands on every film: job, film mode with its edition, date."""
    mode = f"{record.mode.name} edition {record.edition}" if record.mode else "without a film mode"
    return f"{record.job.name} · {mode} · {timezone.localtime(record.created_at):%-d %B %Y %H:%M}"


def file_of(record: PlateSet, place: int) -> str:
    """The file of a plate in the storage. Raises `BadInput` where there is none."""
    plates = record.plates
    if not 0 <= place < len(plates):
        raise BadInput("there is no such plate")
    return f"{folder_of(record.pk)}/{plates[place]['file']}"


# --- on film ---------------------------------------------------------------------------------------


@needs(USE)
@transaction.atomic
def lay_on_film(record: PlateSet, places: Sequence[int], user: User | None) -> Run:
    """Lay plates on a run of film, each once. Raises `BadInput` for plates of another edition of their film
    mode, or of none.
    """
    mode = record.mode
    if mode is None:
        raise BadInput("these plates were made for no film mode: make them for one to print them here")
    if edition_of(mode) != record.edition:
        raise BadInput(f"{mode.name} has another edition by now: make the plates again")
    if not places:
        raise BadInput("choose the plates that are printed")
    made = [_film_job(record, place, user) for place in places]
    run = runs.make(made, user, f"Films of {record.job.name}")
    run.parts.update(turn=False)
    run = runs.lay_again(run, run.version)
    PlateSet.objects.filter(pk=record.pk).update(run=run)
    return run


def _film_job(record: PlateSet, place: int, user: User | None) -> Job:
    plate = record.plates[place]
    name = f"{record.job.name[:140]}, {plate['ink']}"
    path = files.local(file_of(record, place))
    with open(path, "rb") as file:
        artwork, _ = intake.add(File(file, name=f"{name}.tif"), f"{name}.tif", user, f"plates {record.pk}")
    facts = {"width_mm": _mm(plate, "width", record), "height_mm": _mm(plate, "height", record)}
    page = {**facts, "colours": ["1 bit"], "spots": {}, "contours": {}, "pictures": []}
    Artwork.objects.filter(pk=artwork.pk, facts={}).update(
        facts={"kind": "picture", "pages": [page], "findings": []}
    )
    artwork.refresh_from_db()
    made = jobs.make_job(artwork, user, record.mode)
    Job.objects.filter(pk=made.pk).update(name=name[:200])
    made.refresh_from_db()
    return made


def _mm(plate: Mapping[str, Any], side: str, record: PlateSet) -> float:
    choices = {**plate_choices.USUAL, **record.choices}
    return round(float(plate[side]) / plate_choices.resolution_of(choices, record.mode) * 25.4, 3)


def small_plate(name: str, side: int = 220) -> bytes:
    """PNG of a plate, small, black where it stops light."""
    held = open_picture(files.local(name), 1, True)
    share = min(1.0, side / max(held.width, held.height))
    size = max(1, round(held.width * share)), max(1, round(held.height * share))
    out = io.BytesIO()
    Image.fromarray(held.scaled(*size).pixels()[:, :, 0]).save(out, format="PNG")
    return out.getvalue()
