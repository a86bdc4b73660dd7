"""The print room of the demo: a dozen pieces of artwork, jobs and runs in every state, weeks of prints."""

from __future__ import annotations

from datetime import datetime, timedelta

import numpy as np
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.utils import timezone

from greyanchor.accounts.roles import acting
from greyanchor.background import queue
from greyanchor.checks.models import CheckPrint
from greyanchor.core.layout.runs import Rules
from greyanchor.delivery import folders
from greyanchor.demo.artwork import pieces
from greyanchor.library.models import PrintMode
from greyanchor.printroom import (
    hot_folders,
    intake,
    jobs,
    plates,
    preparing,
    prints,
    run_preparing,
    runs,
    trials,
)
from greyanchor.printroom.models import Artwork, Job, MediaRoll, Print, PrintFile, Run, Then
from greyanchor.profiles.models import AimRecord

_PROOF, _COVERS = "Harbour Proof, contract proof", "Fathom Satin, pilot book covers"
_ARCHIVE, _DECK = "Saltmarsh Cotton, archive charts", "Kelp Synthetic, deck charts"
_SIGNS = "Breakwater Banner, quay signs"
_WEEKS = 12


def seed(users: dict[str, User], aim: AimRecord) -> None:
    """Take in the artwork, make jobs and runs, and what was printed in twelve weeks."""
    lead, technician = users["ines"], users["tobias"]
    with acting(lead):
        art = {name: _examined(name, data, lead) for name, data in pieces()}
        names = (_PROOF, _COVERS, _ARCHIVE, _DECK, _SIGNS)
        modes = {m.name: m for m in PrintMode.objects.filter(name__in=names)}
        done = _jobs(art, modes, lead, technician)
        hot_folders.make(
            "Deck charts, overnight", "deck-charts", lead, mode=modes.get(_DECK), margin_mm=5.0, go=True,
            then=Then.FILL, fill={"share": 0.9, "minutes": 240.0},
        )  # fmt: skip
        hot_folders.make("Proofs at once", "proofs", lead, mode=modes.get(_PROOF), go=True, then=Then.PRINT)
        _history(done, technician)
        _runs(art, modes, aim, lead, technician)
        _films(art, lead)
        folders.make("Proofing programs", "proofing", ["profile", "pack"], lead)


def _jobs(
    art: dict[str, Artwork], modes: dict[str, PrintMode], lead: User, technician: User
) -> dict[str, PrintFile]:
    """Jobs in every state; what was prepared of each mode."""
    chart, cover = art["harbour-chart-lantern-sound.pdf"], art["pilot-book-cover.jpg"]
    tables = art["tide-tables-two-pages.pdf"]
    proof = jobs.make_job(chart, lead, modes.get(_PROOF), choices={"width_mm": 280.0, "keep_black": True})
    made = {
        _PROOF: _prepared(jobs.cut_piece(proof, (0.28, 0.22, 0.2, 0.18), lead), lead),
        _COVERS: _prepared(
            jobs.make_job(cover, technician, modes.get(_COVERS), choices={"width_mm": 240.0}), technician
        ),
        _ARCHIVE: _prepared(
            jobs.make_job(tables, lead, modes.get(_ARCHIVE), choices={"width_mm": 210.0}), lead
        ),
        _DECK: _prepared(
            jobs.make_job(art["deck-chart-north.tif"], lead, modes.get(_DECK), choices={"width_mm": 360.0}),
            lead,
        ),
    }
    jobs.make_job(cover, technician, modes.get(_PROOF), choices={"intent": "perceptual"})
    jobs.make_job(art["deck-chart-north.tif"], technician, modes.get(_DECK), choices={"lightness": 4.0})
    jobs.make_job(tables, lead, modes.get(_ARCHIVE), 2, {"quarters": 1})
    jobs.make_job(art["night-approach-heavy-ink.tif"], lead, None)
    return {name: record for name, record in made.items() if record is not None}


def _examined(name: str, data: bytes, user: User) -> Artwork:
    made, _ = intake.add(ContentFile(data), name, user)
    queue.run(made)
    made.refresh_from_db()
    return made


def _prepared(job: Job, user: User) -> PrintFile | None:
    """Prepare a job here and now, where it has a released mode."""
    if job.mode is None or job.mode.state != PrintMode.State.RELEASED:
        return None
    [record] = preparing.order_print_files(job, user)
    queue.run(record)
    record.refresh_from_db()
    return record


# --- what was printed ------------------------------------------------------------------------


def _history(done: dict[str, PrintFile], user: User) -> None:
    """Twelve weeks of prints of what was prepared: ink and media as the print files say, rolls that grow
    shorter, and the strips of the weekly checks.
    """
    random = np.random.default_rng(12)
    strips = list(
        CheckPrint.objects.filter(mode__name=_ARCHIVE, made_check__isnull=False).order_by(
            "made_check__made_at"
        )
    )
    now = timezone.now()
    for record in done.values():
        assert record.mode is not None
        roll = _roll(record.mode, now - timedelta(weeks=_WEEKS))
        for week in range(_WEEKS):
            begins = now - timedelta(weeks=_WEEKS - week)
            count = int(random.integers(2, 6))
            for number in range(count):
                at = begins + timedelta(days=number + 0.5, hours=float(random.uniform(-4, 4)))
                if at >= now - timedelta(hours=3):
                    continue
                if roll.left_mm < 2000.0:
                    roll = _roll(record.mode, at)
                _printed(record, roll, at, user, float(random.random()))
    for strip in strips:
        assert strip.made_check is not None
        nearest = (
            Print.objects.filter(print_file__mode=strip.mode_id, state=Print.State.DONE, check_print=None)
            .filter(ended_at__lte=strip.made_check.made_at)
            .order_by("-ended_at")
            .first()
        )
        if nearest is not None:
            Print.objects.filter(pk=nearest.pk).update(check_print=strip)


def _roll(mode: PrintMode, at: datetime) -> MediaRoll:
    MediaRoll.objects.filter(printer=mode.printer, media=mode.media.name).update(is_in=False)
    made = MediaRoll.objects.create(
        printer=mode.printer, media=mode.media.name, width_mm=min(mode.media.width_mm, mode.printer.width_mm),
        first_mm=30_000.0, left_mm=30_000.0, is_in=False, seen_at=at,
    )  # fmt: skip
    MediaRoll.objects.filter(pk=made.pk).update(came_at=at)
    return made


def _printed(record: PrintFile, roll: MediaRoll, at: datetime, user: User, luck: float) -> Print:
    """A print that ended at a time; few of them were cancelled or failed."""
    assert record.mode is not None
    state, reason, share = Print.State.DONE, "", 1.0
    if luck > 0.97:
        state, reason, share = Print.State.FAILED, "the media is jammed", 0.4
    elif luck > 0.93:
        state, reason, share = Print.State.CANCELLED, "it was cancelled", 0.2
    long = prints.length_of(record) * share
    ink = {k: round(v * share, 4) for k, v in record.facts["ink_ml"].items()}
    roll.left_mm -= long
    roll.save(update_fields=["left_mm"])
    made = Print.objects.create(
        print_file=record,
        printer=record.mode.printer,
        roll=roll,
        key=f"{record.pk:04d}-{roll.pk}-{int(at.timestamp()) % 1_000_000}",
        state=state,
        reason=reason,
        share=share,
        media=roll.media,
        media_mm=long,
        ink_ml=ink,
        ink_total_ml=round(sum(ink.values()), 4),
        picture=record.picture if state == Print.State.DONE else "",
        asked_by=user,
        sent_at=at - timedelta(minutes=4),
        started_at=at - timedelta(minutes=3),
        ended_at=at,
    )
    Print.objects.filter(pk=made.pk).update(asked_at=at - timedelta(minutes=9))
    return made


# --- runs ------------------------------------------------------------------------------------


def _runs(
    art: dict[str, Artwork], modes: dict[str, PrintMode], aim: AimRecord, lead: User, technician: User
) -> None:
    """A run in every state: on the table, waiting to fill, prepared and held; one the worker prepares."""
    proof, deck, signs = modes[_PROOF], modes[_DECK], modes.get(_SIGNS)
    sticker = jobs.make_job(art["buoy-sticker-round.pdf"], lead, deck)
    cut = runs.make([sticker], lead, "Twenty buoy stickers")
    rules = Rules(way="save", cutter=True, gap=4.0)
    runs.change(
        cut,
        {"copies": {sticker.pk: 20}, "rules": rules.as_dict(), "cutting": {"what": "later", "bleed": 0.3}},
        cut.version,
    )
    banner = jobs.make_job(
        art["pier-banner-six-metres.pdf"], lead, deck, choices={"panels": 4, "overlap_mm": 20.0}
    )
    hung = runs.make([banner], lead, "Pier banner, four panels")
    hem = Rules(hem=40.0, eyelets=500.0, cut="each", advance=120.0)
    runs.change(hung, {"rules": hem.as_dict()}, hung.version)
    small = jobs.make_job(art["deck-chart-north.tif"], technician, deck, choices={"width_mm": 180.0})
    waits = runs.make([small], technician, "Deck charts, waiting to fill")
    waits = runs.change(waits, {"fill": {"share": 0.9, "minutes": 2880.0}, "goes": True}, waits.version)
    runs.wait_to_fill(waits, waits.version)
    _proved(art, proof, aim, lead)
    if signs is not None and signs.profile_id:
        trials.order_trial(signs, 300.0, technician)


def _films(art: dict[str, Artwork], user: User) -> None:
    """A shirt in six spot colours as plates for its film mode, laid on film."""
    mode = next(iter(plates.film_modes()), None)
    if mode is None:
        return
    shirt = jobs.make_job(art["crew-shirt-six-spots.pdf"], user)
    order = ["Underbase White", "Beacon Yellow", "Buoy Red", "Kelp Green", "Deep Water Blue", "Outline Black"]
    values = {"order": order, "choke": {"Underbase White": 0.5}, "trap": 0.3, "gain": {"*": [[50.0, 62.0]]}}
    made = plates.order_plates(shirt, mode, values, user)
    queue.run(made)
    made.refresh_from_db()
    plates.lay_on_film(made, range(len(made.plates)), user)


def _proved(art: dict[str, Artwork], proof: PrintMode, aim: AimRecord, user: User) -> None:
    """A run with a control strip, prepared here: it lies on the shelf of its machine."""
    chart = jobs.make_job(
        art["harbour-chart-lantern-sound.pdf"], user, proof, choices={"width_mm": 110.0, "keep_black": True}
    )
    run = runs.make([chart], user, "Lantern Sound, with its strip")
    strip = {
        "kind": "short",
        "method": "strip",
        "tolerances": "iso12647-7:2016",
        "aim": aim.pk,
        "corrected": True,
    }
    run = runs.change(run, {"copies": {chart.pk: 2}, "strip": strip, "rules": {"crop": True}}, run.version)
    record = run_preparing.order_run(Run.objects.get(pk=run.pk), user)
    queue.run(record)
