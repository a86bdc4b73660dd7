"""The print room on the server: the first picture of a file, a job on forty modes, a list of 20,000 jobs."""

from __future__ import annotations

import io
import os
import random
import statistics
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from benchmarks.report import missed, report

JOBS, MODES = 20_000, 40


def everything() -> None:
    """All figures of the print room's pages, in a home of its own."""
    with tempfile.TemporaryDirectory() as home:
        os.environ.update(GREYANCHOR_HOME=home, DJANGO_SETTINGS_MODULE="greyanchor.config.settings")
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        print(f"\nThe print room: {JOBS:,} jobs, {MODES} print modes")
        user = _shop()
        artwork = _first_pictures(user)
        _ranking(artwork, user)
        _list(artwork, user)
    sys.exit(1 if missed else 0)


def _shop() -> Any:
    """People, machines, and forty released modes, each with a profile of its own."""
    from django.contrib.auth.models import User

    from benchmarks.separation import printer_profile
    from greyanchor.core.formats import icc
    from greyanchor.core.printing.environment import PrintEnvironment
    from greyanchor.demo import seed
    from greyanchor.library.models import Media, Printer, PrintMode
    from greyanchor.profiles.models import Profile

    seed.people_and_machines()
    user, printer = User.objects.get(username="ines"), Printer.objects.get(name="Petrel 44")
    data, inks = printer_profile(), printer.ink_sets.first()
    assert inks is not None
    media = Media.objects.first()
    assert media is not None
    for i in range(MODES):
        found = icc.loads(data)
        profile = Profile.objects.create(title=f"Profile {i}", data=icc.dumps(found), channels=list("CMYK"))
        environment = PrintEnvironment(
            printer=printer.name, ink_set=inks.name, media=media.name, resolution=600, passes=4 + i % 5
        )
        PrintMode.objects.create(
            name=f"Mode {i}", printer=printer, media=media, ink_set=inks, state="released", profile=profile,
            environment=environment.as_dict(), total_ink=300 + i % 20,
            environment_hash=environment.content_hash(),
        )  # fmt: skip
    return user


def _pdf() -> bytes:
    """Twenty pages, each with a picture of four million pixels and text."""
    from reportlab.lib.utils import ImageReader
    from reportlab.pdfgen.canvas import Canvas

    out = io.BytesIO()
    page = Canvas(out, pagesize=(595, 842))
    rng = np.random.default_rng(4)
    for number in range(20):
        coarse = rng.integers(0, 255, (24, 16, 3), dtype=np.uint8)
        picture = Image.fromarray(coarse).resize((1650, 2400), Image.Resampling.BICUBIC)
        held = io.BytesIO()
        picture.save(held, "JPEG", quality=90)
        page.drawImage(ImageReader(io.BytesIO(held.getvalue())), 40, 120, 515, 680)
        page.drawString(40, 80, f"Page {number + 1} of twenty, each with a picture of its own")
        page.showPage()
    page.save()
    return out.getvalue()


def _first_pictures(user: Any) -> Any:
    """From the file's arrival to its small picture, and to its first page on the light table."""
    from django.core.files.base import ContentFile

    from greyanchor.printroom import intake, rasters, tasks
    from greyanchor.printroom.models import Artwork

    name = "twenty.pdf"
    began = time.perf_counter()
    artwork, _ = intake.add(ContentFile(_kept_pdf(), name), name, user)
    assert rasters.make_thumbnail(artwork)
    report("first picture of a PDF of 20 pages with pictures", time.perf_counter() - began, 3.0, "s")
    tasks.examine_artwork(artwork.pk)
    report("the same, examined and on the light table", time.perf_counter() - began, 5.0, "s")
    artwork = Artwork.objects.get(pk=artwork.pk)
    assert rasters.level(artwork, 1, 0).width
    return artwork


def _kept_pdf() -> bytes:
    path = Path(tempfile.gettempdir()) / "greyanchor-bench-twenty.pdf"
    if not path.exists():
        path.write_bytes(_pdf())
    return path.read_bytes()


def _ranking(artwork: Any, user: Any) -> None:
    from greyanchor.printroom import jobs, outcomes
    from greyanchor.printroom.models import Job

    job = jobs.make_job(artwork, user)
    modes = outcomes.candidates(job)
    assert len(modes) == MODES
    began = time.perf_counter()
    found = outcomes.ranked(job, modes)
    report(f"a job on {len(found)} modes", time.perf_counter() - began, 3.0, "s")
    began = time.perf_counter()
    outcomes.ranked(Job.objects.get(pk=job.pk), modes)
    report("the same, kept", time.perf_counter() - began, 0.1, "s")


def _list(artwork: Any, user: Any) -> None:
    from django.test import Client

    from greyanchor.library.models import PrintMode
    from greyanchor.printroom.models import Job

    chance, modes = random.Random(5), list(PrintMode.objects.all())
    words = ("harbour", "pier", "sound", "tide", "beacon", "quay", "fairway", "anchorage", "lantern", "shoal")
    Job.objects.bulk_create(
        [
            Job(
                artwork=artwork, mode=chance.choice(modes), made_by=user,
                name=f"{chance.choice(words)} {chance.choice(words)} {i}.pdf",
            )
            for i in range(JOBS)
        ],
        batch_size=500,
    )  # fmt: skip
    client = Client(headers={"host": "127.0.0.1"})
    client.force_login(user)
    client.get("/jobs/")
    took = []
    for query in [f"q={a}+{b}" for a in words[:5] for b in words[3:7]] + [f"mode={m.pk}" for m in modes[:10]]:
        began = time.perf_counter()
        answer = client.get(f"/jobs/?{query}")
        took.append(1000.0 * (time.perf_counter() - began))
        assert answer.status_code == 200
    report(f"list of {JOBS:,} jobs narrowed, median", statistics.median(took), 100.0, "ms")
    report("the same, 95th percentile", float(np.percentile(took, 95)), 100.0, "ms")


if __name__ == "__main__":
    everything()
