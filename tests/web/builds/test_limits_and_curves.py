"""Ink limits, light inks, curves and their confirmation, on the pages of a build."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.lifecycle import acceptance_rules, start
from greyanchor.builds.models import Baseline, Build
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.linearization import EVEN_LARGEST, EVEN_MEAN
from greyanchor.core.formats import cgats
from greyanchor.library.models import InkSet, Media, Printer
from tests.web.conftest import (
    CHOICES,
    accept,
    confirm_curves,
    read_print,
    read_stage,
    stage_of,
)


def test_moving_a_limit_shows_its_cost_at_once(client: Client, build: Build, user: User) -> None:
    read_stage(build, "ink-limits", user)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert page.count('data-mark="C"') == 3 and 'data-dot="C"' in page

    def gamut(**limits: float) -> float:
        found = client.get(
            f"/builds/{build.pk}/ink-limits/cost/", {f"ink-limits-{c}": v for c, v in limits.items()}
        )
        return float(found.content.decode().split('mono">')[1].split(" ")[0])

    assert gamut(C=75, M=70, Y=80) > gamut(C=50, M=70, Y=80) > gamut(C=30, M=30, Y=30)


def test_limits_of_an_older_mode_stand_as_ghosts(
    client: Client, build: Build, user: User, up_to: Callable[[str], Build]
) -> None:
    up_to("linearization")
    other = start.start_build(
        "Second", build.mode.printer, build.mode.ink_set, build.mode.media, CHOICES, user
    )
    read_stage(other, "ink-limits", user)
    page = client.get(f"/builds/{other.pk}/").content.decode()
    assert "Dashed lines are the limits of Test mode" in page and 'stroke-dasharray="2 4"' in page


def test_marks_of_the_eye_lower_a_limit_with_the_reason(client: Client, build: Build, user: User) -> None:
    by_reading = read_stage(build, "ink-limits", user).result["limits"]["M"]["percent"]
    picture = client.get(f"/builds/{build.pk}/ink-limits/picture/M.png")
    assert picture.content.startswith(b"\x89PNG") and picture["Content-Type"] == "image/png"
    client.post(f"/builds/{build.pk}/ink-limits/marks/", {"M|bleed": "60", "M|haze": "", "C|bleed": "95"})
    limits = stage_of(build, "ink-limits").result["limits"]
    assert (
        limits["M"]["percent"] == 60
        and limits["M"]["rule"] == "eye"
        and "bleed was seen" in limits["M"]["reason"]
    )
    assert by_reading > 60 and limits["C"]["rule"] != "eye"
    page = client.post(
        f"/builds/{build.pk}/ink-limits/marks/", {"M|bleed": "61"}, follow=True
    ).content.decode()
    assert (
        "no step of the picture" in page
        and stage_of(build, "ink-limits").result["limits"]["M"]["percent"] == 60
    )


def test_light_inks_are_split_and_everything_after_prints_through_the_split(
    printer: Printer, media: Media, user: User, client: Client
) -> None:
    light = InkSet.objects.create(
        name="Tarn pigment light", channels=list("CMYK"), light={"LC": "C", "LM": "M"}, kind="aqueous"
    )
    printer.ink_sets.add(light)
    build = start.start_build("With light inks", printer, light, media, CHOICES, user)
    stage = read_stage(build, "ink-limits", user)
    assert set(stage.result["limits"]) == {"C", "M", "Y", "K", "LC", "LM"}
    reach = {s["light"]: s["reach"] / s["limit"] for s in stage.result["splits"]}
    assert reach["LC"] == pytest.approx(0.34, abs=0.03) and reach["LM"] == pytest.approx(0.37, abs=0.03)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "C shared with LC" in page and "LC crossover start" in page
    form = {"ink-limits-version": build.version, "ink-limits-reason": ""}
    form |= {f"ink-limits-{c}": v["percent"] for c, v in stage.result["limits"].items()}
    for s in stage.result["splits"]:
        form |= {f"ink-limits-{s['light']}_{e}": round(100 * s[e], 1) for e in ("start", "end")}
    bad = client.post(
        f"/builds/{build.pk}/ink-limits/accept/", {**form, "ink-limits-LC_end": 99, "ink-limits-LC_start": 25}
    )
    assert bad.status_code == 422 and "end it earlier" in bad.content.decode()
    build.refresh_from_db()
    form["ink-limits-version"] = build.version
    assert client.post(f"/builds/{build.pk}/ink-limits/accept/", form).status_code == 302
    job = stage_of(build, "linearization").sheet_print
    assert job.sent_channels == ["C", "M", "Y", "K", "LC", "LM"] and len(job.sent[0]) == 6
    sent = np.array(job.sent)
    low = (job.chart.patches.device[:, 0] > 0) & (job.chart.patches.device[:, 0] < 0.1)
    assert sent[low, 0].max() == 0 and sent[low, 4].min() > 0, "light tones print with the light ink alone"
    read_stage(build, "linearization", user)
    done = confirm_curves(build, user)
    assert done.result["confirm"]["good"]


def test_the_curves_are_confirmed_by_a_second_print_and_become_the_baseline(
    client: Client, build: Build, user: User, up_to: Callable[[str], Build]
) -> None:
    up_to("linearization")
    read_stage(build, "linearization", user)
    assert acceptance_rules.objections(stage_of(build, "linearization")) == [
        "the curves were not confirmed by a second print"
    ]
    client.post(f"/builds/{build.pk}/linearization/confirm/")
    read_print(stage_of(build, "linearization").confirm_print, user)
    stage = stage_of(build, "linearization")
    assert stage.result["confirm"]["mean"] <= 0.8 and stage.result["confirm"]["max"] <= 2.5
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "The tone scale is even." in page and f"the target is {EVEN_MEAN} and {EVEN_LARGEST}" in page
    accept(build, "linearization", user, {})
    baseline = Baseline.objects.get(mode=build.mode)
    assert baseline.confirmed and baseline.curves == stage.result["curves_csv"]


def test_without_the_confirming_print_the_baseline_is_predicted(
    build: Build, user: User, up_to: Callable[[str], Build]
) -> None:
    up_to("linearization")
    read_stage(build, "linearization", user)
    accept(build, "linearization", user, {}, "no paper left")
    baseline = Baseline.objects.get(mode=build.mode)
    assert not baseline.confirmed and len(cgats.loads(baseline.text)) > 60


def test_a_curve_is_touched_by_hand_and_taken_back(
    client: Client, build: Build, user: User, up_to: Callable[[str], Build]
) -> None:
    up_to("linearization")
    before = read_stage(build, "linearization", user).result
    handle = dict(map(tuple, before["handles"]["C"]))[50]
    client.post(
        f"/builds/{build.pk}/linearization/touch/", {"channel": "C", "input": "50", "output": handle + 5}
    )
    touched = stage_of(build, "linearization").result
    assert touched["touched"] == ["C"]
    assert dict(map(tuple, touched["handles"]["C"]))[50] == pytest.approx(handle + 5, abs=0.05)
    assert touched["handles"]["M"] == before["handles"]["M"]
    assert touched["scales"]["C"]["deviation_after"][1] > before["scales"]["C"]["deviation_after"][1] + 1
    assert (np.diff(CurveSet.from_csv(touched["curves_csv"]).outputs, axis=1) >= 0).all()
    client.post(f"/builds/{build.pk}/linearization/touch/", {"channel": "C", "input": "50", "output": ""})
    assert stage_of(build, "linearization").result["curves_csv"] == before["curves_csv"]
    page = client.post(
        f"/builds/{build.pk}/linearization/touch/",
        {"channel": "C", "input": "55", "output": "20"},
        follow=True,
    )
    assert "no handle" in page.content.decode()
    for ending in ("csv", "json"):
        text = client.get(f"/builds/{build.pk}/linearization/curves.{ending}").content.decode()
        made = CurveSet.from_json(text) if ending == "json" else CurveSet.from_csv(text)
        assert made.channels == tuple("CMYK")
