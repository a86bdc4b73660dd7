"""The print room of the demo: a dozen pieces of artwork, jobs in every state, a hot folder."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.core.files.base import ContentFile

from greyanchor.accounts.roles import acting
from greyanchor.background import queue
from greyanchor.demo.artwork import pieces
from greyanchor.library.models import PrintMode
from greyanchor.printroom import hot_folders, intake, jobs, preparing
from greyanchor.printroom.models import Artwork, Job, PrintFile

_PROOF, _COVERS = "Harbour Proof, contract proof", "Fathom Satin, pilot book covers"
_ARCHIVE, _DECK = "Saltmarsh Cotton, archive charts", "Kelp Synthetic, deck charts"


def seed(users: dict[str, User]) -> None:
    """Take in the artwork and make the jobs."""
    lead, technician = users["ines"], users["tobias"]
    with acting(lead):
        art = {name: _examined(name, data, lead) for name, data in pieces()}
        modes = {m.name: m for m in PrintMode.objects.filter(name__in=(_PROOF, _COVERS, _ARCHIVE, _DECK))}
        chart = art["harbour-chart-lantern-sound.pdf"]
        proof = jobs.make_job(chart, lead, modes.get(_PROOF), choices={"width_mm": 280.0, "keep_black": True})
        _prepared(jobs.cut_piece(proof, (0.28, 0.22, 0.2, 0.18), lead), lead)
        cover = art["pilot-book-cover.jpg"]
        jobs.make_job(cover, technician, modes.get(_PROOF), choices={"intent": "perceptual"})
        _prepared(
            jobs.make_job(cover, technician, modes.get(_COVERS), choices={"width_mm": 90.0}), technician
        )
        jobs.make_job(art["deck-chart-north.tif"], technician, modes.get(_DECK), choices={"lightness": 4.0})
        jobs.make_job(
            art["pier-banner-six-metres.pdf"],
            lead,
            modes.get(_DECK),
            choices={"panels": 4, "overlap_mm": 20.0, "panels_off": [3]},
        )
        jobs.make_job(art["tide-tables-two-pages.pdf"], lead, modes.get(_ARCHIVE), 2, {"quarters": 1})
        jobs.make_job(art["night-approach-heavy-ink.tif"], lead, None)
        hot_folders.make("Deck charts, overnight", "deck-charts", lead, mode=modes.get(_DECK), margin_mm=5.0)


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
    return record
