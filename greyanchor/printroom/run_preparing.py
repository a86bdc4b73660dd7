"""Runs to print files: each piece prepared as it lies, the strip through the mode, all put together."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone
from PIL import Image

from greyanchor.accounts.roles import USE, needs
from greyanchor.background import queue, work
from greyanchor.checks.services import Order as StripOrder
from greyanchor.checks.strip_prints import raw_strip
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.layout.runs import STRIP
from greyanchor.core.layout.runs import Run as LaidRun
from greyanchor.core.separation import views
from greyanchor.core.separation.composing import compose
from greyanchor.core.separation.prepare import peak_mb, small
from greyanchor.core.separation.printing import screen_of
from greyanchor.core.separation.strip_planes import write_strip
from greyanchor.library.models import PrintMode
from greyanchor.measuring.pipelines import sent_channels
from greyanchor.printroom import choices as chosen
from greyanchor.printroom import files, film_prints, prints, rasters, run_pieces
from greyanchor.printroom.links import fingerprint, inks_of, link_of
from greyanchor.printroom.models import PrintFile, Run
from greyanchor.printroom.preparing import print_job
from greyanchor.printroom.run_pieces import Part
from greyanchor.printroom.signals import prepared
from greyanchor.printroom.tickets import check_edition, edition_of, newest_edition, ticket_of
from greyanchor.profiles.models import AimRecord

#: pixels across the picture of a run
_PICTURE = 900
#: share of the work that the pieces are; the rest is putting them together
_PIECES = 0.85


@needs(USE)
@transaction.atomic
def order_run(run: Run, user: User | None) -> PrintFile:
    """Close a run and queue its preparing. Raises `BadInput` for one whose mode is not released, whose jobs
    have other sizes by now, or that is closed.
    """
    run = (
        Run.objects.select_for_update(of=("self",))
        .select_related("mode__printer", "mode__ink_set")
        .get(pk=run.pk)
    )
    mode = run.mode
    if run.state == Run.State.CLOSED:
        raise BadInput(f"{run.name} is prepared already: make a copy of it to change")
    if mode.state != PrintMode.State.RELEASED and not run.is_trial:
        raise BadInput(f"{mode.name} is {mode.get_state_display()}; runs are printed through released modes")
    if run_pieces.is_stale(run):
        run.places, run.by_hand = run_pieces.placed(run)
    changed = {k: v for k, v in run.after.items() if not isinstance(v, bool)}
    parts = run_pieces.parts_of(run)
    laid = run_pieces.drawn(run)
    ticket = {
        **ticket_of(mode, changed),
        "run": run.pk,
        "jobs": [
            {"job": p.job.pk, "panel": p.panel, "artwork": p.job.artwork.sha256, "page": p.job.page,
             "choices": fingerprint(p.choices)}
            for p in parts.values()
        ],
        "rules": run.rules,
        "places": run.places,
        "after": {**run.after, "cuts": [round(c, 2) for c in laid.cuts]},
        "cutting": run.cutting,
        "trial": run.is_trial,
    }  # fmt: skip
    ticket["hash"] = fingerprint(ticket)
    run.state, run.fills_since = Run.State.CLOSED, None
    run.version += 1
    run.save()
    record = PrintFile.objects.create(
        run=run,
        mode=mode,
        edition=newest_edition(mode),
        ticket=ticket,
        choices={p.id: p.choices for p in parts.values()},
        started_by=user,
        message="waiting for the worker",
    )
    queue.start(record)
    return record


def prepare_run(pk: int) -> None:
    """Carry out the preparing of a run; a killed one is gone on with, piece by piece."""
    record = PrintFile.objects.select_related(
        "run__mode__printer", "run__mode__profile", "run__mode__curve_set"
    ).get(pk=pk)
    run, mode = record.run, record.mode
    assert run is not None and mode is not None
    check_edition(mode, record.ticket)
    began = timezone.now()
    report = work.progress_of(PrintFile, pk)
    laid, parts = run_pieces.drawn(run), run_pieces.parts_of(run)
    folder = files.local(f"runs/{pk}")
    made, facts = _pieces_prepared(run, laid, parts, folder, report)
    strip: dict[str, Any] = {}
    if run.strip:
        strip = _strip_prepared(run, folder)
        made[STRIP, False] = folder / "strip.tif"
        facts[STRIP, False] = {"ink_ml": strip.pop("ink_ml")}
    name = f"print-files/run-{run.pk}/{fingerprint(record.ticket)}-{pk}.tif"
    done = compose(
        laid,
        made,
        planes_of_run(mode),
        screen_of(str(mode.environment.get("halftone", ""))),
        float(mode.environment.get("resolution", 600)),
        files.place(name),
        line_of(run, began),
        record.ticket,
        lambda share: report(_PIECES + (1.0 - _PIECES) * share, "putting the run together"),
        resume=True,
        ink_ml=_facts_of(laid, facts, {})["ink_ml"],
    )
    total = _facts_of(laid, facts, done.mark_ml)
    total |= {
        "width": done.width,
        "height": done.height,
        "resolution": done.resolution,
        "inks": list(done.inks),
        "seconds": round((timezone.now() - began).total_seconds(), 3),
        "peak_mb": round(peak_mb(), 1),
        "megapixels_per_second": round(done.width * done.height / 1e6 / max(done.seconds, 1e-6), 2),
        "strip": strip,
    }
    picture_of_run(run, laid, parts, files.place(art_name(record)))
    for made_here in (name, art_name(record)):
        files.share(made_here)
    with transaction.atomic():
        PrintFile.objects.filter(pk=pk).update(file=name, facts=total)
        work.end(PrintFile, pk, PrintFile.State.DONE, "prepared")
        record.refresh_from_db()
        prepared.send(PrintFile, record=record)
        if not record.prints.exists():
            prints.order(record, record.started_by, hold=not run.goes)
    shutil.rmtree(folder, ignore_errors=True)


def planes_of_run(mode: PrintMode) -> tuple[str, ...]:
    """What is printed, one plane each."""
    return tuple(film_prints.solid_of(mode)) if mode.ink_set.is_film else inks_of(mode).channels


def art_name(record: PrintFile) -> str:
    """Where the picture of a run, as its artwork asks for it, lies."""
    return f"prints/run-{record.run_id}/{record.pk}-art.png"


def _pieces_prepared(
    run: Run, laid: LaidRun, parts: dict[str, Part], folder: Path, report: Callable[[float, str], None]
) -> tuple[dict[tuple[str, bool], str | Path], dict[tuple[str, bool], dict[str, Any]]]:
    """Each piece as a print file of its own, once for each way that it lies; what is there already stays."""
    wanted = sorted({(p.id, p.turned) for p in laid.pieces if p.id != STRIP})
    made: dict[tuple[str, bool], str | Path] = {}
    facts: dict[tuple[str, bool], dict[str, Any]] = {}
    folder.mkdir(parents=True, exist_ok=True)
    for number, key in enumerate(wanted):
        part = parts[key[0]]
        choices = part.turned(key[1])
        path = folder / f"{fingerprint(part.job.pk, choices)}.tif"
        kept = path.with_suffix(".json")

        def said(share: float, number: int = number, title: str = part.title) -> None:
            report(_PIECES * (number + share) / len(wanted), f"{title}: {100 * share:.0f} % prepared")

        if not (path.exists() and kept.exists()):
            try:
                done = print_job(part.job, run.mode, choices, path, {}, said)
            except BadInput as error:
                raise BadInput(error.reason, part.title) from error
            kept.write_text(json.dumps(done.facts()))
        made[key], facts[key] = path, json.loads(kept.read_text())
    return made, facts


def _facts_of(laid: LaidRun, facts: dict[tuple[str, bool], dict[str, Any]], mark_ml: Any) -> dict[str, Any]:
    """Ink of everything on the run, and how its colours come out, weighed by area."""
    ink, areas, total = dict(mark_ml), dict.fromkeys(("within_1", "within_3", "beyond_3"), 0.0), 0.0
    for piece in laid.pieces:
        found = facts[piece.id, piece.turned]
        for name, ml in found["ink_ml"].items():
            ink[name] = ink.get(name, 0.0) + ml
        if piece.id == STRIP:
            continue
        if "area_within_1" not in found:
            continue  # a film has no colours
        area = piece.width * piece.height
        total += area
        for name in areas:
            areas[name] += area * found[f"area_{name}"]
    return {
        "ink_ml": {k: round(v, 4) for k, v in ink.items()},
        **{f"area_{k}": round(v / total, 5) for k, v in areas.items() if total},
    }


# --- the strip -------------------------------------------------------------------------------


def strip_order(run: Run) -> StripOrder:
    """What the strip of a run is held to."""
    aim = AimRecord.objects.filter(pk=run.strip["aim"]).first() if run.strip.get("aim") else None
    return StripOrder(aim, str(run.strip["tolerances"]), bool(run.strip.get("corrected")), True)


def _strip_prepared(run: Run, folder: Path) -> dict[str, Any]:
    """The strip as planes in a folder; its chart and what is sent of it, to be kept with the print file."""
    chart = run_pieces.strip_of(run)
    raw = raw_strip(run.mode, strip_order(run), chart)
    channels = sent_channels(run.mode.ink_set, run.mode.splits)
    environment = run.mode.environment
    ink_ml = write_strip(
        replace(chart, channels=channels, device=np.clip(raw, 0.0, 1.0)),
        inks_of(run.mode).channels,
        screen_of(str(environment.get("halftone", ""))),
        float(environment.get("resolution", 600)),
        folder / "strip.tif",
        f"{run.mode.name}: control strip",
    )
    return {
        "chart": cgats.dumps(chart),
        "raw": np.round(raw, 5).tolist(),
        "order": {k: run.strip.get(k) for k in ("aim", "tolerances", "corrected")},
        "ink_ml": ink_ml,
    }


# --- words and pictures ----------------------------------------------------------------------


def line_of(run: Run, at: datetime) -> str:
    """The line of words of a run: job, mode, edition, machine, serial, media, ink set, date."""
    mode = run.mode
    said = [
        run.name,
        f"{mode.name}, edition {edition_of(mode)}",
        f"{mode.printer.name}, serial {mode.printer.serial}",
        mode.media.name,
        mode.ink_set.name,
        f"{timezone.localtime(at):%-d %B %Y %H:%M}",
    ]
    if mode.last_verdict:
        said.append(f"last check: {mode.last_verdict}")
    return " · ".join(said)


def picture_of_piece(part: Part, mode: PrintMode, turned: bool, most: int = 480) -> Image.Image:
    """A piece as its artwork asks for it, small, as it lies on the run."""
    if mode.ink_set.is_film:
        return film_prints.seen(part.job, most)
    choices = part.turned(turned)
    shape = chosen.shape_of(choices, part.job.page)
    picture = shape.upright(rasters.level(part.job.artwork, part.job.page, 0))
    pixels = small(picture, shape.part)
    seen = Image.fromarray(views.render(link_of(picture, part.job, mode, choices), pixels, "art"))
    seen.thumbnail((most, most))
    margin = float(choices["margin_mm"])
    if not margin:
        return seen
    wide, tall = (part.height, part.width) if turned else (part.width, part.height)
    edge = round(margin * seen.width / max(wide - 2 * margin, 1e-6))
    whole = Image.new("RGB", (seen.width + 2 * edge, round((seen.width + 2 * edge) * tall / wide)), "white")
    whole.paste(seen, (edge, edge))
    return whole


def picture_of_run(run: Run, laid: LaidRun, parts: dict[str, Part], path: Path) -> None:
    """Write the picture of a run, as its artwork asks for it, on white."""
    scale = min(_PICTURE / laid.width, 6000.0 / laid.length)
    out = Image.new("RGB", (max(1, round(laid.width * scale)), max(1, round(laid.length * scale))), "white")
    seen: dict[tuple[str, bool], Image.Image] = {}
    for piece in laid.pieces:
        size = max(1, round(piece.width * scale)), max(1, round(piece.height * scale))
        at = round(piece.x * scale), round(piece.y * scale)
        if piece.id == STRIP:
            out.paste((150, 150, 150), (*at, at[0] + size[0], at[1] + size[1]))
            continue
        key = piece.id, piece.turned
        if key not in seen:
            seen[key] = picture_of_piece(parts[piece.id], run.mode, piece.turned, max(size))
        out.paste(seen[key].resize(size), at)
    out.save(path, format="PNG")
