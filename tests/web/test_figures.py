"""Every number that a page shows is the core's: recomputed here from the stored readings and read off the
page.
"""

from __future__ import annotations

import html
import re
from collections.abc import Callable

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.models import Build
from greyanchor.checks.models import Check
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.totalink import find_total_ink
from greyanchor.core.formats import cgats, icc
from greyanchor.core.measurement.repeatability import average, compare
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.verification import generic_aims
from greyanchor.core.verification.check import check
from greyanchor.core.verification.predict import predict
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.measuring.models import ReadingPass
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import aim_of
from greyanchor.profiles.services import keep_profile
from greyanchor.web.templatetags.figures import fix, signed, thousands, verdict
from tests.web.conftest import read_stage, stage_of


def words(client: Client, address: str) -> str:
    """The text of a page, tags taken out and spaces folded."""
    page = client.get(address).content.decode()
    return " ".join(html.unescape(re.sub(r"<[^>]+>", " ", page)).split())


def passes(build: Build, kind: str) -> list:
    done = ReadingPass.objects.filter(sheet_print=stage_of(build, kind).sheet_print)
    return [cgats.loads(p.text) for p in done]


def test_ink_limits_on_the_page_are_those_of_the_averaged_readings(
    client: Client, build: Build, user: User
) -> None:
    read_stage(build, "ink-limits", user)
    page = words(client, f"/builds/{build.pk}/")
    both = passes(build, "ink-limits")
    for name, found in find_limits(average(both)).items():
        row = (
            f"{name} {100 * found.limit:.1f} {found.reason} {found.keeps:.1f} {found.keeps_density:.1f} "
            f"{found.saves:.1f}"
        )
        assert row in page
    agreement = compare(*both)
    shown = (
        f"mean {agreement.mean:.2f} , 95th percentile {agreement.p95:.2f} , largest {agreement.max:.2f} dE00"
    )
    assert shown in page


def test_deviations_and_curves_of_a_linearization_are_the_cores(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("linearization")
    read_stage(build, "linearization", user)
    page = words(client, f"/builds/{build.pk}/")
    limits = {c: v / 100 for c, v in stage_of(build, "ink-limits").decision["limits"].items()}
    result = linearize(average(passes(build, "linearization")), limits)
    for name, s in result.scales.items():
        before, after = s.deviation_before, s.deviation_after
        assert f"{name} {before[0]:.1f} {before[1]:.1f} {after[0]:.2f} {after[1]:.2f}" in page
    assert (
        client.get(f"/builds/{build.pk}/linearization/curves.csv").content.decode() == result.curves.to_csv()
    )


def test_total_ink_on_the_page_is_the_cores(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("total-ink")
    read_stage(build, "total-ink", user, 1)
    found = find_total_ink(passes(build, "total-ink")[0])
    page = words(client, f"/builds/{build.pk}/")
    assert f"Recommended: {100 * found.limit:.0f} %" in page
    assert found.reason[1:] in page


@pytest.fixture
def checked(build: Build, user: User, aim: AimRecord) -> Check:
    """A check of strip readings that are off the aim by known amounts."""
    data = generic_aims.aim_data().select(np.arange(54))
    lab = data.measured_lab + np.random.default_rng(8).normal(0, 1.5, (54, 3))
    readings = cgats.loads(cgats.dumps(data)).select(np.arange(54))
    object.__setattr__(readings, "measured_lab", lab)
    return make_check(Subject(build.mode), readings, Order(aim, "iso12647-7:2016"), user)


def test_a_check_page_shows_value_limit_and_what_is_left_of_every_criterion(
    client: Client, checked: Check
) -> None:
    result = check(cgats.loads(checked.readings), aim_of(checked.aim), SHIPPED["iso12647-7:2016"])
    page = words(client, f"/checks/{checked.pk}/")
    for found in result.findings:
        if found.criterion.limit is None or found.value is None:
            continue
        assert f"{found.criterion.title} {found.count} {found.value:.2f}" in page
        assert signed(found.left, 2) in page
        assert (found.left >= 0) == (found.verdict == "pass")
    assert "Spot colour solids, largest 0 – dE00 2.5 – – not tested" in page
    assert checked.verdict == result.verdict


def test_the_worst_patches_stand_in_order_with_their_differences(client: Client, checked: Check) -> None:
    page = words(client, f"/checks/{checked.pk}/").split("Worst patches")[1]
    expected = check(cgats.loads(checked.readings), aim_of(checked.aim), SHIPPED["iso12647-7:2016"]).worst(10)
    places = []
    for name, difference in expected:
        match = re.search(rf"(?<!\S){re.escape(name)} [\d·\s]+? {difference:.2f}(?!\d)", page)
        assert match, name
        places.append(match.start())
    assert places == sorted(places)


def test_the_mode_remembers_its_last_verdict_as_the_check_has_it(client: Client, checked: Check) -> None:
    checked.mode.refresh_from_db()
    assert checked.mode.last_verdict == checked.verdict and checked.mode.last_check_summary == checked.summary
    assert checked.summary[1:] in words(client, f"/modes/{checked.mode_id}/")


def test_a_prediction_page_shows_the_cores_figures_and_leads_back(
    client: Client, built: ProfileResult, aim: AimRecord, user: User
) -> None:
    profile = keep_profile(built, "Quay proof", 4, {}, {}, user)
    result = predict(icc.loads(bytes(profile.data)), aim_of(aim), SHIPPED["iso12647-7:2016"], True)
    page = words(client, f"/checks/predict/{profile.pk}/")
    for found in result.result.findings:
        if found.value is not None and found.criterion.limit is not None:
            assert f"{found.criterion.title} {found.count} {found.value:.2f}" in page
    assert ("Even a perfect print would fail" in page) == (not result.within_reach)
    for name, de in result.out_of_reach[:3]:
        assert f"{name} ({de:.1f})" in page
    query = f"?aim={aim.pk}&tolerances=iso12647-7:2013"
    other = client.get(f"/checks/predict/{profile.pk}/{query}")
    assert other.status_code == 200 and "dE*ab" in other.content.decode()
    assert client.get(f"/checks/predict/{profile.pk}/?aim=999&tolerances=x").status_code == 422
    assert f"/checks/predict/{profile.pk}/" in client.get(f"/profiles/{profile.pk}/").content.decode()


def test_a_check_of_a_profile_that_is_not_in_use_yet_leaves_the_modes_verdict(
    checked: Check, user: User
) -> None:
    mode = checked.mode
    mode.last_verdict, mode.last_check_summary = "pass", "as it was"
    mode.save()
    coming = Profile.objects.create(title="coming", data=b"not in use", version=4)
    readings, order = cgats.loads(checked.readings), Order(checked.aim, checked.tolerances)
    made = make_check(Subject(mode, coming), readings, order, user)
    mode.refresh_from_db()
    assert made.profile == coming and mode.last_check_summary == "as it was"
    again = make_check(Subject(mode), readings, order, user)
    mode.refresh_from_db()
    assert mode.last_check_summary == again.summary


@pytest.mark.parametrize(
    ("value", "digits", "text"),
    [(1.256, 2, "1.26"), (None, 1, "–"), ("", 1, "–"), (0, 1, "0.0"), (-0.5, 2, "-0.50"), (300, 0, "300")],
)
def test_fixed_decimals(value: object, digits: int, text: str) -> None:
    assert fix(value, digits) == text


def test_signs_thousands_and_verdicts() -> None:
    assert signed(-1.2) == "−1.2" and signed(0.4, 2) == "+0.40" and signed(None) == "–"
    assert thousands(653_499) == "653"
    shapes = {name: str(verdict(name)) for name in ("pass", "fail", "not tested", "")}
    assert "FAIL" in shapes["fail"] and "no check" in shapes[""] and len(set(shapes.values())) == 4
