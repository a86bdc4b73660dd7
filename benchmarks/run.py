"""Print every figure beside its goal; the exit status says whether all were met."""

from __future__ import annotations

import multiprocessing
import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from benchmarks import (
    any_inks,
    colours,
    engine,
    fleet,
    hostile,
    layout,
    library,
    misreads,
    plates,
    printroom,
    prints,
    probabilities,
    proof,
    restoring,
    schema,
    separation,
    servers,
    swaps,
)
from benchmarks.report import missed, report
from greyanchor.core.charts import patches
from greyanchor.core.colour.colorimetry import spectra_to_lab
from greyanchor.core.colour.density import sctv
from tests.conftest import make_room

PAGE_GOAL_MS = 100.0


def _own_process(work: Callable[[], None]) -> None:
    """Run in a process of its own, so that its peak memory is its own."""
    context = multiprocessing.get_context("fork")
    process = context.Process(target=work)
    process.start()
    process.join()
    if process.exitcode:
        missed.append(work.__name__)


def _linearization() -> None:
    print("\nLinearization: a ramp printed through the curves and read again")
    from greyanchor.core.calibration.ramps import find_ramps

    for name in (
        "petrel-44",
        "petrel-44/thrift-bond-90",
        "gannet-64/kelp-synthetic-190",
        "petrel-44/saltmarsh-cotton-310",
    ):
        room = make_room(name)
        again = room.read(patches.linearization_ramps([1, 1, 1, 1]), seed=71, shuffle=None)
        off = [np.abs(sctv(r.xyz, r.xyz[0], r.xyz[-1]) - 100 * r.inputs) for r in find_ramps(again).values()]
        report(f"{name}, mean of the worst ink", max(float(o.mean()) for o in off), 1.0, "SCTV")
        report(f"{name}, largest", max(float(o.max()) for o in off), 2.5, "SCTV")


def _pages() -> None:
    print("\nPages on the server, median of 7, demo library")
    with tempfile.TemporaryDirectory() as home:
        os.environ.update(
            GREYANCHOR_HOME=home, DJANGO_SETTINGS_MODULE="greyanchor.config.settings", GREYANCHOR_DEMO="1"
        )
        import django

        django.setup()
        from django.contrib.auth.models import User
        from django.core.management import call_command
        from django.test import Client

        from greyanchor.demo import seed

        call_command("migrate", verbosity=0)
        began = time.perf_counter()
        seed.seed(lambda _: None)
        report("seeding the demo", time.perf_counter() - began, 60.0, "s")
        client = Client(headers={"host": "127.0.0.1"})
        client.force_login(User.objects.get(username="ines"))
        for address in _addresses():
            times = []
            for _ in range(7):
                response = client.get(address)
                assert response.status_code == 200, (address, response.status_code)
                times.append(float(response.headers["Server-Timing"].split("dur=")[1]))
            report(address, statistics.median(times), PAGE_GOAL_MS, "ms")
        _long_session(client)
        proof.pages(client)
    sys.exit(1 if missed else 0)


def _long_session(client: Any) -> None:
    """6,000 patches in one pass: the page, and rows early and late in the session."""
    from greyanchor.builds.models import Build
    from greyanchor.measuring.models import ReadingRow
    from greyanchor.measuring.printing import make_chart, prepare_print, print_sheet
    from greyanchor.measuring.services import calibrate_white, start_pass

    print("\nA reading session of 6,000 patches")
    build = Build.objects.select_related("mode__printer").get(pk=1)
    environment = build.print_environment
    device = np.random.default_rng(1).random((6000, 4)) * 0.6
    chart = make_chart("profile", device, "six thousand patches", environment)
    job = print_sheet(prepare_print(chart, environment, printer=build.mode.printer).pk, None)
    current = start_pass(job, None)
    calibrate_white(current.pk)
    rows = int(chart.patches.rows.max())
    times: list[float] = []
    for row in range(1, 41):
        answer = client.post(f"/readings/{current.pk}/read/", {"row": row}, headers={"HX-Request": "true"})
        times.append(float(answer.headers["Server-Timing"].split("dur=")[1]))
    filler = current.rows.first().spectra
    present = set(current.rows.values_list("row", flat=True))
    ReadingRow.objects.bulk_create(
        ReadingRow(reading_pass=current, row=r, spectra=filler)
        for r in range(1, rows - 40)
        if r not in present
    )
    for row in range(rows - 39, rows):
        answer = client.post(f"/readings/{current.pk}/read/", {"row": row}, headers={"HX-Request": "true"})
        times.append(float(answer.headers["Server-Timing"].split("dur=")[1]))
    report("a row, median of 79", statistics.median(times), 50.0, "ms")
    report("a row, 95th percentile", float(np.percentile(times, 95)), 50.0, "ms")
    report("an answer", len(answer.content) / 1024.0, 100.0, "kB")
    page = client.get(f"/readings/{current.pk}/")
    report("the whole page", len(page.content) / 2**20, 1.0, "MB")
    report(
        "the whole page, on the server", float(page.headers["Server-Timing"].split("dur=")[1]), 1000.0, "ms"
    )


def _addresses() -> list[str]:
    from greyanchor.builds.models import Build
    from greyanchor.builds.stages.registry import stage_types
    from greyanchor.checks.models import Check
    from greyanchor.measuring.models import Chart, ReadingPass

    reading = ReadingPass.objects.filter(state="open").values_list("pk", flat=True)[0]
    builds = [f"/builds/{pk}/" for pk in Build.objects.order_by("pk").values_list("pk", flat=True)]
    builds += [f"/builds/1/{t.name}/part/" for t in stage_types()]
    return [
        "/",
        "/files/",
        "/media-classes/",
        "/restores/3/",
        "/modes/1/branch/faster/",
        "/builds/11/environment/",
        "/modes/",
        "/modes/?q=harbour",
        "/modes/1/",
        "/printers/",
        "/printers/1/",
        "/media/",
        "/media/1/",
        "/checks/",
        "/checks/new/",
        "/checks/schedules/",
        "/checks/tolerances/",
        "/checks/tolerances/northlight-chart-proof/",
        "/checks/aims/",
        "/checks/aims/1/",
        "/checks/spots/",
        "/checks/strips/",
        f"/checks/{Check.objects.values_list('pk', flat=True)[0]}/",
        "/profiles/1/",
        "/profiles/1/profile.icc",
        "/builds/new/",
        *builds,
        f"/readings/{reading}/",
        f"/charts/{Chart.objects.order_by('-pk').values_list('pk', flat=True)[0]}/sheet-1.svg",
    ]


def _library() -> None:
    library.everything()
    sys.exit(1 if missed else 0)


def main() -> int:
    spectra_to_lab(np.ones(36))
    for work in (
        engine.cmyk,
        engine.unseen_presses,
        engine.vivid,
        engine.lab_only,
        engine.real_press,
        engine.eight,
        any_inks.seven,
        any_inks.six,
        any_inks.driven,
        any_inks.restoring,
        any_inks.sky,
        engine.solver,
    ):
        _own_process(work)
    _linearization()
    misreads.everything()
    probabilities.again()
    proof.greys()
    proof.causes()
    _own_process(separation.everything)
    _own_process(plates.everything)
    _own_process(colours.everything)
    layout.everything()
    _own_process(printroom.everything)
    _own_process(prints.everything)
    _own_process(_pages)
    _own_process(_library)
    hostile.run()
    schema.run()
    servers.run()
    restoring.run()
    swaps.run()
    fleet.run()
    print("\nAll goals met." if not missed else f"\nMissed: {', '.join(missed)}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
