"""Figures of proof: grey balance on presses the solver never saw, diagnosis, and how quickly checks come."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import timedelta
from itertools import combinations
from typing import Any

import numpy as np

from benchmarks.report import report
from greyanchor.core.calibration import g7
from greyanchor.core.calibration.greybalance import balance, on_top
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import grey_scales
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.standin import Condition, print_and_read
from greyanchor.core.verification import generic_aims
from greyanchor.core.verification.diagnosis import diagnose
from greyanchor.core.verification.explanations import Strip
from tests.conftest import CMYK, make_room
from tests.core.planted import FAULTS, PAIRABLE, ROOMS, Shop, open_shop, plant, plant_two, printed

#: numbers of planted cases: others than those that the tests look at
_FIRST_CASE = 400


def greys() -> None:
    """Weighted differences at the anchor tones of a second print, after curves from one grey chart."""
    print("\nG7: grey chart of 206 patches, curves, second print; mean at 25, 50 and 75 %")
    for name in (*ROOMS, "petrel-44/thrift-bond-90", "gannet-64/lightbox-film-175"):
        room = make_room(name)
        began = time.perf_counter()
        made = balance(room.read(grey_scales(), seed=31))
        took = time.perf_counter() - began
        chart, _ = lay_out(STRIPS["grey"].patches(), CMYK)
        after = print_and_read(chart, room.press, 91, pipeline=on_top(made.curves, room.curves).apply)
        device = chart.values()
        dl, dch = g7.weighted(device, g7.aim_lab(device, after.lab()), after.lab())
        anchors = np.isin(np.round(device[:, 0], 3), g7.ANCHORS) & g7.is_cmy_step(device)
        report(f"{name}, wdCh", float(dch[anchors].mean()), 0.6, "")
        report(f"{name}, wdL*", float(dl[anchors].mean()), 0.8, "")
    report("solving the last", took, 5.0, "s")


def causes() -> None:
    """Three hundred planted faults with other numbers than the tests have: how many are missed."""
    print("\nDiagnosis of 300 planted faults that no test looks at")
    shops = [open_shop(name) for name in ROOMS]
    ranks = []
    began = time.perf_counter()
    for fault in FAULTS:
        for number in range(_FIRST_CASE, _FIRST_CASE + 30):
            keys = [cause.key for cause in diagnose(plant(fault, number, shops))]
            ranks.append(keys.index(fault) + 1 if fault in keys else 99)
    report("not ranked first", 100.0 * float(np.mean(np.array(ranks) > 1)), 10.0, "%")
    report("not among the first two", 100.0 * float(np.mean(np.array(ranks) > 2)), 2.0, "%")
    report("one diagnosis, with planting it", (time.perf_counter() - began) / len(ranks), 1.0, "s")
    _two_at_once(shops)
    _one_ink(shops)


def _two_at_once(shops: list[Shop]) -> None:
    missed = tried = 0
    for first, second in combinations(PAIRABLE, 2):
        if (first, second) == ("rows", "sheets"):
            continue  # readings mixed up twice over
        for number in range(_FIRST_CASE, _FIRST_CASE + 4):
            strip, channel = plant_two(first, second, number, shops)
            named = [(c.key, c.channel) for c in diagnose(strip)[:3]]
            tried += 1
            missed += not all((f, channel if f == "channel" else "") in named for f in (first, second))
    report(f"two faults at once, not both in the first three of {tried}", 100.0 * missed / tried, 30.0, "%")


def _one_ink(shops: list[Shop]) -> None:
    """An ink that moved by about 4 dE00 where it prints most of itself."""
    missed = 0
    for number in range(60):
        shop = shops[number % len(shops)]
        channel = CMYK[number % 4]
        good = printed(shop, 1000 + number)
        inked = shop.sent[:, number % 4] > 0.5
        share = 0.0
        for share in np.arange(0.04, 0.5, 0.02):
            factor = 1.0 + float(share) * (-1) ** (number // 4)
            read = printed(shop, 9000 + number, Condition(drift=((channel, factor),)))
            if np.percentile(delta_e_2000(read.lab(), good.lab())[inked], 90) > 4.0:
                break
        causes = diagnose(Strip(shop.sent, good.lab(), read.lab(), shop.strip.rows, shop.strip.sheets))
        missed += not causes or causes[0].channel != channel
    report("one ink off by 4 dE00, not first of 60", 100.0 * missed / 60.0, 10.0, "%")


def _big(shift: float = 0.0) -> ReadingSet:
    random = np.random.default_rng(1)
    device = np.vstack([np.zeros((1, 4)), np.round(random.random((1616, 4)), 3)])
    chart = ReadingSet(tuple(str(i + 1) for i in range(1617)), CMYK, device)
    return replace(chart, measured_lab=generic_aims.aim_lab(device) + shift)


def pages(client: Any) -> None:
    """A large check from upload to page, its report, and a trend of 5,000 checks."""
    from django.core.files.uploadedfile import SimpleUploadedFile
    from django.utils import timezone

    from greyanchor.checks.models import Check, CheckFigure
    from greyanchor.profiles.models import AimRecord

    print("\nChecks on the server")
    aim = AimRecord.objects.create(name="large aim", source="bench", data=cgats.dumps(_big()).encode())
    times = []
    for _ in range(3):
        file = SimpleUploadedFile("large.txt", cgats.dumps(_big(0.2)).encode())
        began = time.perf_counter()
        answer = client.post(
            "/checks/new/", {"aim": aim.pk, "tolerances": "iso12647-7:2016", "files": [file]}
        )
        assert client.get(answer["Location"]).status_code == 200
        times.append(time.perf_counter() - began)
    report("1,617 patches, upload to page", sorted(times)[1], 1.0, "s")
    began = time.perf_counter()
    client.get(f"{answer['Location']}report.pdf")
    report("its report, PDF", time.perf_counter() - began, 2.0, "s")
    first = Check.objects.filter(tolerances="iso12647-7:2016").exclude(mode=None).order_by("pk")[0]
    fields = {
        f.name: getattr(first, f.name) for f in Check._meta.concrete_fields if f.name not in ("id", "made_at")
    }
    now = timezone.now()
    many = [Check(**fields, made_at=now - timedelta(hours=4 * k)) for k in range(1, 5001)]
    Check.objects.bulk_create(many, batch_size=500)
    values = 1.0 + 0.1 * np.random.default_rng(1).standard_normal(len(many))
    CheckFigure.objects.bulk_create(
        [CheckFigure(check_made=c, criterion="mean", value=float(v), limit=2.5) for c, v in zip(many, values)]
    )
    address = f"/checks/trends/?of=mode-{first.mode_id}&tolerances=iso12647-7:2016&criterion=mean&all=1"
    seen = [float(client.get(address).headers["Server-Timing"].split("dur=")[1]) for _ in range(5)]
    report("trend of 5,000 checks", sorted(seen)[2], 300.0, "ms")
    start = [float(client.get("/").headers["Server-Timing"].split("dur=")[1]) for _ in range(5)]
    report("start page with them", sorted(start)[2], 100.0, "ms")
