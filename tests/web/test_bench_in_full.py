"""The bench as technicians meet it: ways of measuring, wet sheets, files, eyes, branches, inheritance,
restores.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.builds import acceptance_rules, charts, decisions, inheritance, redo, restores, start, visual
from greyanchor.builds.models import Baseline, Build, Restore, Stage
from greyanchor.builds.stages import matching
from greyanchor.builds.stages.ink_limits import RAMP_STEPS
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.linearization import EVEN_LARGEST, EVEN_MEAN
from greyanchor.core.colour.colorimetry import spectra_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, csv_table, cxf
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.faults import severity
from greyanchor.core.simulation.instrument import SheetReader, StripReader
from greyanchor.demo.devices import drift as let_drift
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import DeviceConnection, InkSet, Media, Printer, PrintMode
from greyanchor.library.modes.fallbacks import set_fallback
from greyanchor.measuring import services as measuring
from greyanchor.measuring.models import ReadingPass, SheetPrint, Upload
from greyanchor.measuring.printing import make_chart, prepare_print, print_sheet
from greyanchor.profiles.models import Profile
from tests.web.conftest import (
    CHOICES,
    accept,
    confirm_curves,
    found_limits,
    read_print,
    read_stage,
    stage_of,
)


@pytest.fixture(autouse=True)
def careful_hands(monkeypatch: pytest.MonkeyPatch) -> None:
    """Hands that never slip, so that a test slips when it wants to."""
    monkeypatch.setattr(StripReader, "__init__", lambda self, **_: StripReader_init(self))
    monkeypatch.setattr(
        SheetReader, "__init__", lambda self, serial="MT", **_: SheetReader_init(self, serial)
    )


def StripReader_init(self: StripReader) -> None:
    for name, value in (
        ("serial", "T"),
        ("noise", 1.0),
        ("misread_rate", 0.0),
        ("calibration_minutes", 30.0),
    ):
        object.__setattr__(self, name, value)


def SheetReader_init(self: SheetReader, serial: str) -> None:
    StripReader_init(self)  # type: ignore[arg-type]


def printed(build: Build, kind: str, user: User, minutes_ago: float = 60.0) -> SheetPrint:
    job = stage_of(build, kind).sheet_print
    return print_sheet(job.pk, user, timezone.now() - timedelta(minutes=minutes_ago))


def act(client: Client, current: ReadingPass, name: str, **data: object) -> str:
    response = client.post(f"/readings/{current.pk}/{name}/", data, headers={"HX-Request": "true"})
    assert response.status_code == 200
    return response.headers.get("HX-Redirect") or response.content.decode()


def lay_out(build: Build, kind: str, **options: object) -> SheetPrint:
    return charts.lay_out_stage(stage_of(build, kind), options)


# --- ways of measuring -----------------------------------------------------------------------


def test_a_table_reads_a_sheet_after_three_corners(client: Client, build: Build, user: User) -> None:
    lay_out(build, "ink-limits", method="table", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    assert "measuring table" in current.source
    page = client.get(f"/readings/{current.pk}/").content.decode()
    assert "Set a corner" in page and "Read sheet 1" in page
    act(client, current, "white")
    assert "Set the three corners" in act(client, current, "sheet", row=1)
    for corner in ("top left", "top right", "in place"):
        assert corner in act(client, current, "corner", row=1)
    assert act(client, current, "sheet", row=1) == f"/builds/{build.pk}/#ink-limits"
    current.refresh_from_db()
    assert current.state == "done" and len(current.readings) == 88


def test_a_corner_set_beside_its_place_is_refused(
    client: Client, build: Build, user: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    lay_out(build, "ink-limits", method="table", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    calls: list[int] = []

    def slip(self: SheetReader, place: np.ndarray, seed: tuple[int, ...]) -> np.ndarray:
        calls.append(1)
        return place + ([9.0, 0.0] if len(calls) == 2 else [0.0, 0.0])

    monkeypatch.setattr(SheetReader, "corner", slip)
    act(client, current, "corner", row=1), act(client, current, "corner", row=1)
    assert "corners span" in act(client, current, "corner", row=1)
    current.refresh_from_db()
    assert current.corners == []


def test_the_reader_inside_the_printer_needs_media_that_travel_back(
    client: Client, build: Build, user: User, media: Media
) -> None:
    lay_out(build, "ink-limits", method="inline", page="a4", dots=1)
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    act(client, current, "white")
    assert act(client, current, "sheet", row=1).endswith("#ink-limits"), "no corners, no hands"
    Media.objects.update(travels_backwards=False)
    form = {"method": "inline", "page": "a4", "patch": "", "dots": "1"}
    page = client.post(f"/builds/{build.pk}/ink-limits/lay-out/", form, follow=True).content.decode()
    assert "cannot travel backwards" in page and "measuring table" in page
    assert (
        "cannot travel backwards" in client.get(f"/builds/{build.pk}/ink-limits/plan/", form).content.decode()
    )


def test_the_plan_is_told_before_anything_is_laid_out(client: Client, build: Build) -> None:
    form = {"method": "strip", "page": "a4", "patch": "16", "dots": "4", "patches": "900"}
    found = client.get(f"/builds/{build.pk}/ink-limits/plan/", form).content.decode()
    assert "900 patches in" in found and "sheets" in found and "min a pass" in found
    before = stage_of(build, "ink-limits").sheet_print_id
    client.post(f"/builds/{build.pk}/ink-limits/lay-out/", form)
    after = stage_of(build, "ink-limits").sheet_print
    assert after.pk != before and after.chart.patches.meta["READINGS_A_PATCH"] == "4"


@pytest.mark.parametrize("condition", ["M0", "M2"])
def test_conditions_are_kept_and_never_mixed(build: Build, user: User, condition: str) -> None:
    job = printed(build, "ink-limits", user)
    first = measuring.start_pass(job, user, condition)
    measuring.calibrate_white(first.pk)
    for row in range(1, 6):
        assert measuring.read_row(first.pk, row).kept
    first.refresh_from_db()
    assert first.readings.condition == condition
    truth = careful_reading(job, 5, condition).lab()[0, 2] - careful_reading(job, 5, "M1").lab()[0, 2]
    if condition == "M2":
        assert truth > 0.5, "without its brightener the paper is yellower"
    with pytest.raises(BadInput, match=f"pass 1 was read as {condition}"):
        measuring.start_pass(job, user, "M1")
    assert measuring.start_pass(job, user).condition == condition


def test_a_row_can_be_left_for_later_and_comes_back(client: Client, build: Build, user: User) -> None:
    current = measuring.start_pass(printed(build, "ink-limits", user), user)
    act(client, current, "white")
    assert "row 2</div>" in act(client, current, "skip", row=1)
    for row in (2, 3, 4, 5):
        page = act(client, current, "read", row=row)
    assert "row 1</div>" in page and "skipped: 1" in page
    assert act(client, current, "read", row=1).endswith("#ink-limits")


def test_a_long_session_answers_each_row_with_that_row_alone(
    client: Client, build: Build, user: User
) -> None:
    rng = np.random.default_rng(1)
    chart = make_chart("profile", rng.random((6000, 4)) * 0.6, "six thousand", build.print_environment)
    job = prepare_print(chart, build.print_environment, printer=build.mode.printer)
    current = measuring.start_pass(print_sheet(job.pk, user), user)
    whole = client.get(f"/readings/{current.pk}/").content
    assert whole.count(b'class="r"') > 250 and len(whole) < 1_000_000
    act(client, current, "white")
    answer = act(client, current, "read", row=1)
    assert 'id="row-1"' in answer and 'id="row-2"' not in answer and len(answer) < 30_000


# --- wet sheets ------------------------------------------------------------------------------


def test_a_wet_sheet_can_be_read_is_recorded_and_asks_for_a_reason(
    client: Client, build: Build, user: User
) -> None:
    job = printed(build, "ink-limits", user, minutes_ago=1)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "Drying:" in page and "Read pass 1 now (still drying)" in page
    current = measuring.start_pass(job, user)
    assert 28 <= current.early_minutes <= 29.1
    measuring.calibrate_white(current.pk)
    for row in range(1, 6):
        measuring.read_row(current.pk, row)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "min before it was dry" in page
    found = acceptance_rules.objections(stage_of(build, "ink-limits"))
    assert any("minutes before the sheet was dry" in t for t in found)
    client.post(f"/prints/{job.pk}/dry/")
    job.refresh_from_db()
    assert job.minutes_to_dry == 0
    second = measuring.start_pass(job, user)
    measuring.calibrate_white(second.pk)
    for row in range(1, 6):
        measuring.read_row(second.pk, row)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "still drying" in page and second.early_minutes == 0
    client.post(f"/readings/{current.pk}/leave-out/")
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "min before it was dry" not in page
    assert stage_of(build, "ink-limits").result is not None


def test_cured_ink_needs_no_waiting(build: Build, user: User) -> None:
    InkSet.objects.update(kind="UV-cured")
    lay_out(build, "ink-limits")
    job = printed(build, "ink-limits", user, minutes_ago=0)
    assert job.dry_minutes == 0 and measuring.start_pass(job, user).early_minutes == 0


# --- files -----------------------------------------------------------------------------------


def send(client: Client, build: Build, text: str, name: str) -> str:
    return client.post(
        f"/builds/{build.pk}/ink-limits/upload/",
        {"file": SimpleUploadedFile(name, text.encode())},
        follow=True,
    ).content.decode()


def use(client: Client, by: str) -> str:
    sent = Upload.objects.latest("pk")
    return client.post(f"/files/{sent.pk}/use/", {"by": by}, follow=True).content.decode()


@pytest.mark.parametrize(
    ("write", "name"), [(cxf.dumps, "a.cxf"), (csv_table.dumps, "a.csv"), (cgats.dumps, "a.txt")]
)
def test_files_of_every_format_are_shown_before_they_are_used(
    client: Client, build: Build, user: User, write: Callable[[ReadingSet], str], name: str
) -> None:
    job = printed(build, "ink-limits", user)
    page = send(client, build, write(careful_reading(job, 1)), name)
    assert (
        "As it was understood" in page
        and "Yes, by patch ids." in page
        and "Nothing has been used yet" in page
    )
    assert not job.passes.exists()
    assert f"{name} is kept as pass 1" in use(client, "id")
    assert job.passes.get().source == f"file {name}"
    for ending in ("txt", "cxf", "csv"):
        back = client.get(f"/readings/{job.passes.get().pk}/readings.{ending}")
        assert back.status_code == 200 and len(back.content) > 10_000


def test_a_file_with_other_ids_is_matched_by_device_values(client: Client, build: Build, user: User) -> None:
    job = printed(build, "ink-limits", user)
    readings = careful_reading(job, 1)
    order = np.random.default_rng(4).permutation(len(readings))
    foreign = replace(
        readings.select(order),
        ids=tuple(f"P{i}" for i in range(len(readings))),
        rows=None,
        columns=None,
        sheets=None,
    )
    page = send(client, build, cgats.dumps(foreign), "foreign.txt")
    assert "By device values it is" in page and "Match by device values" in page
    assert "kept as pass 1" in use(client, "device")
    assert job.passes.get().readings.ids == readings.ids


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda s, chart: s[::-1], "upside down"),
        (lambda s, chart: np.repeat(s[:1], len(s), axis=0), "bare paper"),
        (lambda s, chart: s[np.random.default_rng(3).permutation(len(s))], "another chart"),
        (lambda s, chart: np.where(np.arange(len(s))[:, None] == 9, 1.95, s), "saturated"),
    ],
)
def test_a_pass_that_cannot_be_of_this_chart_is_named_and_nothing_is_kept(
    client: Client, build: Build, user: User, spoil: Callable[..., np.ndarray], words: str
) -> None:
    job = printed(build, "ink-limits", user)
    measuring.keep_whole_pass(job, careful_reading(job, 1), "test", user)
    readings = careful_reading(job, 2)
    page = send(
        client,
        build,
        cgats.dumps(replace(readings, spectra=spoil(readings.spectra, job.chart.patches))),
        "x.txt",
    )
    assert words in page and "It cannot be used for this chart" in page
    refused = client.post(f"/files/{Upload.objects.latest('pk').pk}/use/", {"by": "id"})
    assert refused.status_code == 409 and job.passes.count() == 1


def test_any_file_can_be_looked_at_and_a_stranger_cannot_see_it(
    client: Client, build: Build, db: None
) -> None:
    page = client.post(
        "/files/",
        {"file": SimpleUploadedFile("bomb.xml", b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>')},
        follow=True,
    )
    assert "refused" in page.content.decode() and "line 1" in page.content.decode()
    curves = CurveSet.straight({"C": 0.8, "M": 0.7}).to_json().encode()
    page = client.post(
        "/files/", {"file": SimpleUploadedFile("c.json", curves)}, follow=True
    ).content.decode()
    assert "curves" in page and "C 80, M 70" in page
    other = Client()
    other.force_login(User.objects.create_user("stranger", password="x"))
    assert other.get(f"/files/{Upload.objects.latest('pk').pk}/").status_code == 404
    assert "Choose a file first." in client.post("/files/").content.decode()


# --- limits, curves and totals ---------------------------------------------------------------


def test_moving_a_limit_tells_its_cost_at_once(client: Client, build: Build, user: User) -> None:
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


def test_without_the_confirming_print_the_baseline_is_foretold(
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


def test_the_total_is_the_smaller_of_eye_and_reading(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("total-ink")
    by_reading = read_stage(build, "total-ink", user, 1).result
    assert {o["name"] for o in by_reading["overprints"]} >= {"all", "C+M+Y", "C+M", "M+Y", "C+K"}
    assert client.get(f"/builds/{build.pk}/total-ink/picture/C+M+Y.png").content.startswith(b"\x89PNG")
    client.post(f"/builds/{build.pk}/total-ink/marks/", {"all|slow drying": "220", "C+M|bleed": "160"})
    found = stage_of(build, "total-ink").result
    assert found["percent"] == 220 and found["by"] == "slow drying" and "by reading" in found["reason"]
    assert next(o for o in found["overprints"] if o["name"] == "C+M")["eye"] == 160

    def consequence(total: float) -> str:
        return client.get(
            f"/builds/{build.pk}/total-ink/cost/", {"total-ink-total_ink": total}
        ).content.decode()

    assert "7 min" in consequence(150) or "8 min" in consequence(150), (
        "half the usual film dries in a quarter"
    )
    assert "Gamut kept" in consequence(300) and "ml/m²" in consequence(300)


# --- by eye ----------------------------------------------------------------------------------


@pytest.fixture
def mesh_build(printer: Printer, user: User, build: Build) -> Build:
    media = Media.objects.create(
        name="Gangway Mesh 270",
        media_class=build.mode.media.media_class,
        maker="Sound & Shoal",
        weight=270,
        thickness=350,
        width_mm=1600,
        brightener="none",
        unreadable=True,
    )
    choices = {**CHOICES, "heat": 40.0, "vacuum": 35.0}
    return start.start_build("Mesh", printer, printer.ink_sets.get(), media, choices, user)


def last_good(build: Build, channel: str, fault: str) -> str:
    """What a person sees in the picture: the last step whose fault stays under what is seen."""
    raw = np.zeros((len(RAMP_STEPS), 4))
    raw[:, "CMYK".index(channel)] = np.array(RAMP_STEPS) / 100.0
    bad = severity(press_for(build.print_environment), raw)[fault]
    good = [s for s, b in zip(RAMP_STEPS, bad) if b < 0.15]
    return "" if len(good) == len(RAMP_STEPS) else str(good[-1])


def test_a_build_by_eye_from_marks_to_curves(client: Client, mesh_build: Build, user: User) -> None:
    build = mesh_build
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "mark the last good step" in page and "Print on Petrel 44" not in page
    marks = {f"{c}|{f}": last_good(build, c, f) for c in "CMYK" for f in ("bleed", "cockling", "haze")}
    client.post(f"/builds/{build.pk}/ink-limits/marks/", marks)
    stage = stage_of(build, "ink-limits")
    assert stage.result["limits"]["C"]["percent"] == min(
        float(v) for k, v in marks.items() if k[0] == "C" and v
    )
    accept(build, "ink-limits", user, {**found_limits(stage), "splits": []})
    press = press_for(build.print_environment)
    limits = {c: v["percent"] / 100 for c, v in stage.result["limits"].items()}
    assert 'href="/builds/' in client.get(f"/builds/{build.pk}/").content.decode()
    for i, channel in enumerate("CMYK"):
        assert client.get(f"/builds/{build.pk}/linearization/match/{channel}/").status_code == 200
        form: dict[str, str] = {}

        def xyz(raw: float, i: int = i) -> np.ndarray:
            device = np.zeros((1, 4))
            device[0, i] = raw
            return spectra_to_xyz(press.spectra(device))[0]

        paper, solid = xyz(0.0), xyz(limits[channel])
        for pair in matching.pairs(build)[channel]:
            wanted = float(sctv((1 - pair.coverage) * paper + pair.coverage * solid, paper, solid))
            tones = np.array([float(sctv(xyz(s), paper, solid)) for s in pair.steps])
            best = pair.steps[int(np.abs(tones - wanted).argmin())]
            form |= {f"{pair.tone:g}|{r}": f"{100 * best:.2f}" for r in range(matching.REPEATS)}
        client.post(f"/builds/{build.pk}/linearization/match/{channel}/", form)
    stage = stage_of(build, "linearization")
    assert set(stage.result["sure"]) == set("CMYK") and max(stage.result["sure"].values()) < 15
    curves = CurveSet.from_csv(stage.result["curves_csv"])
    for i in range(4):
        ramp = np.zeros((11, 4))
        ramp[:, i] = np.linspace(0, 1, 11)
        seen = spectra_to_xyz(press.spectra(curves.apply(ramp)))
        straight = spectra_to_xyz(press.spectra(CurveSet.straight(limits).apply(ramp)))
        off = np.abs(sctv(seen, seen[0], seen[-1]) - 100 * ramp[:, i]).mean()
        before = np.abs(sctv(straight, straight[0], straight[-1]) - 100 * ramp[:, i]).mean()
        assert off < 0.6 * before
    accept(build, "linearization", user, {})
    assert not Baseline.objects.filter(mode=build.mode).exists()
    client.post(f"/builds/{build.pk}/total-ink/marks/", {"all|slow drying": "240"})
    accept(build, "total-ink", user, {"total_ink": 240.0})
    assert PrintMode.objects.get(pk=build.mode_id).total_ink == 240


def test_a_match_that_is_no_step_is_refused(client: Client, mesh_build: Build, user: User) -> None:
    client.post(f"/builds/{mesh_build.pk}/ink-limits/marks/", {"C|bleed": "60"})
    accept(mesh_build, "ink-limits", user, {**found_limits(stage_of(mesh_build, "ink-limits")), "splits": []})
    page = client.post(f"/builds/{mesh_build.pk}/linearization/match/C/", {"0.5|0": "13.37"}, follow=True)
    assert "no step of its pair" in page.content.decode()


# --- the frozen environment, branches and inheritance ------------------------------------------


def finish(build: Build, user: User) -> PrintMode:
    """To release, with a profile that stands in: the way there is not what is tested here."""
    report = {
        "fit": {"mean": 0.1},
        "held_out": {"mean": 0.3, "p95": 0.6},
        "round_trip": {"mean": 0.1, "p95": 0.3},
        "neutral_dch_max": 0.4,
        "gamut_volume": 600000.0,
        "seconds": 1.0,
    }
    kept = Profile.objects.create(title=build.mode.name, data=b"not looked at", report=report, version=4)
    stage = stage_of(build, "profile")
    stage.profile, stage.result = kept, report
    stage.save()
    accept(build, "profile", user, {})
    build.refresh_from_db()
    decisions.skip_stage(stage_of(build, "check").pk, build.version, "checked elsewhere", user)
    accept(build, "release", user, {"note": "in use"}, "checked elsewhere")
    return PrintMode.objects.get(pk=build.mode_id)


@pytest.fixture
def released(up_to: Callable[[str], Build], user: User) -> PrintMode:
    return finish(up_to("profile"), user)


def test_every_stage_says_what_it_was_made_under(client: Client, up_to: Callable[[str], Build]) -> None:
    build = up_to("total-ink")
    part = client.get(f"/builds/{build.pk}/linearization/part/").content.decode()
    assert "Made under" in part and "8 passes" in part and "36 °C" in part


def test_changing_the_environment_lists_what_becomes_void_asks_and_keeps_it_readable(
    client: Client, up_to: Callable[[str], Build]
) -> None:
    build = up_to("total-ink")
    form = {**CHOICES, "heat": 40, "reason": "the media curls", "version": build.version}
    build.refresh_from_db()
    form["version"] = build.version
    page = client.post(f"/builds/{build.pk}/environment/", form).content.decode()
    assert "heat 36 to 40" in page and "This invalidates: Ink limits, Linearization, Total ink." in page
    build.refresh_from_db()
    assert build.environment["heat"] == 36, "listing changes nothing"
    client.post(f"/builds/{build.pk}/environment/", {**form, "sure": "1"})
    build.refresh_from_db()
    assert build.environment["heat"] == 40 and stage_of(build, "ink-limits").state == "open"
    assert stage_of(build, "linearization").state == "waiting"
    old = stage_of(build, "linearization").superseded[-1]
    assert (
        "heat 36 to 40" in old["why"] and "confirmed" in old["headline"] and old["made_under"]["heat"] == 36
    )
    assert "40 °C" in stage_of(build, "ink-limits").sheet_print.print_environment.label()
    assert PrintMode.objects.get(pk=build.mode_id).limits == {}
    again = client.post(f"/builds/{build.pk}/environment/", {**form, "version": build.version})
    assert again.status_code == 422 and "nothing was changed" in again.content.decode().lower()


def test_a_faster_mode_keeps_the_limits_and_asks_for_the_rest(
    client: Client, released: PrintMode, user: User
) -> None:
    page = client.get(f"/modes/{released.pk}/branch/faster/").content.decode()
    assert "Asked for" in page and "<li>Linearization</li>" in page
    client.post(
        f"/modes/{released.pk}/branch/faster/", {"name": "Quick", "passes": 6, "direction": "one way"}
    )
    build = Build.objects.get(mode__name="Quick")
    assert build.environment["passes"] == 6 and build.mode.derived_from == released
    kept = stage_of(build, "ink-limits")
    assert kept.source == "kept" and kept.decision == stage_of(build.base, "ink-limits").decision
    assert stage_of(build, "linearization").state == "open"
    assert stage_of(build, "linearization").sheet_print.environment["passes"] == 6
    assert build.mode.limits == released.limits
    refused = client.post(
        f"/modes/{released.pk}/branch/faster/", {"name": "Same", "passes": 8, "direction": "one way"}
    )
    assert refused.status_code == 422 and "choose fewer" in refused.content.decode()


def test_a_kept_stage_done_again_is_printed_under_the_new_environment(
    released: PrintMode, user: User
) -> None:
    build = start.derive_faster(released, "Quick", 6, "both ways", user)
    kept = stage_of(build, "ink-limits")
    assert kept.made_under["passes"] == 8
    build.refresh_from_db()
    redo.redo_stage(kept.pk, build.version, user)
    stage = stage_of(build, "ink-limits")
    assert stage.source == "" and stage.result is None and stage.state == "open"
    assert stage.sheet_print.environment["passes"] == 6 and stage.sheet_print_id != kept.sheet_print_id
    assert stage.superseded[-1]["made_under"]["passes"] == 8


def test_the_history_has_one_signed_entry_for_a_release(released: PrintMode, user: User) -> None:
    entries = list(released.history.all()[:2])
    assert entries[0].history_user == user and entries[0].history_change_reason.startswith("released")
    assert entries[1].history_user == user, "no entry without a name between the check and the release"


def test_a_new_profile_leaves_the_mode_in_use_until_it_is_released(
    client: Client, released: PrintMode, user: User
) -> None:
    old = released.profile_id
    client.post(f"/modes/{released.pk}/branch/profile/")
    build = released.builds.filter(purpose="profile").get()
    assert [s.kind for s in build.stages.filter(source="kept")] == [
        "ink-limits",
        "linearization",
        "grey-balance",
        "total-ink",
    ]
    charts.lay_out_stage(stage_of(build, "profile-chart"), {"patches": 220, "page": "a4"})
    read_stage(build, "profile-chart", user)
    accept(build, "profile-chart", user, {})
    released.refresh_from_db()
    assert released.state == "released" and released.profile_id == old
    finish(build, user)
    released.refresh_from_db()
    assert released.profile_id != old and released.state == "released" and released.curves
    with pytest.raises(BadInput, match="going on already"):
        client.post(f"/modes/{released.pk}/branch/profile/")
        start.renew(released, "profile", user)


def test_refined_limits_that_do_not_move_leave_everything_standing(
    client: Client, released: PrintMode, user: User
) -> None:
    client.post(f"/modes/{released.pk}/branch/limits/")
    build = released.builds.filter(purpose="limits").get()
    stage = stage_of(build, "ink-limits")
    assert stage.state == "open" and stage.result["limits"], "the readings are there, nothing is printed"
    accept(build, "ink-limits", user, {**released_limits(released), "splits": []})
    assert stage_of(build, "profile").source == "kept" and stage_of(build, "release").state == "open"


def released_limits(mode: PrintMode) -> dict[str, Any]:
    return {"limits": dict(mode.limits)}


def test_refined_limits_that_move_compute_curves_from_the_old_ramps(released: PrintMode, user: User) -> None:
    build = start.renew(released, "limits", user)
    lower = {c: v - 5 for c, v in released.limits.items()}
    accept(build, "ink-limits", user, {"limits": lower, "splits": []}, "less ink")
    stage = stage_of(build, "linearization")
    assert stage.state == "open" and stage.result, (
        "the ramps reach the new limits, so no new print is asked for"
    )
    curves = CurveSet.from_csv(stage.result["curves_csv"])
    assert 100 * curves.limits["C"] == pytest.approx(lower["C"], abs=0.01)
    assert stage_of(build, "total-ink").state == "waiting"
    released.refresh_from_db()
    assert released.limits != lower, "production prints with the old limits until release"


def test_media_that_cannot_inherit_from_the_class_and_say_so_everywhere(
    client: Client, released: PrintMode, mesh_build: Build, user: User
) -> None:
    build = mesh_build
    set_fallback(build.mode.media.media_class, released.printer, released)
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "fall-back of the class coated" in page
    for kind in ("ink-limits", "linearization", "total-ink", "profile-chart"):
        build.refresh_from_db()
        form = {
            f"inherit-{kind}-version": build.version,
            f"inherit-{kind}-lender": released.pk,
            f"inherit-{kind}-reason": "nothing reads it",
        }
        assert client.post(f"/builds/{build.pk}/{kind}/inherit/", form).status_code == 302
    mode = PrintMode.objects.get(pk=build.mode_id)
    assert (
        set(mode.inherited) == {"limits", "curves", "total ink", "profile"}
        and mode.profile == released.profile
    )
    assert (
        mode.curves == released.curves
        or CurveSet.from_csv(mode.curves).limits == CurveSet.from_csv(released.curves).limits
    )
    build.refresh_from_db()
    client.post(f"/builds/{build.pk}/check/skip/", {"version": build.version, "reason": "nothing reads it"})
    for address in (f"/builds/{build.pk}/", f"/modes/{mode.pk}/", "/modes/", "/"):
        assert "nherited" in client.get(address).content.decode(), address
    assert "of Test mode" in client.get(f"/modes/{mode.pk}/").content.decode()
    build.refresh_from_db()
    redo.redo_stage(stage_of(build, "ink-limits").pk, build.version, user)
    assert PrintMode.objects.get(pk=mode.pk).inherited == {}


def test_curves_are_not_inherited_over_other_limits(released: PrintMode, user: User) -> None:
    other = start.start_build("Second", released.printer, released.ink_set, released.media, CHOICES, user)
    limits = {c: v - 3 for c, v in released.limits.items()}
    read_stage(other, "ink-limits", user)
    accept(other, "ink-limits", user, {"limits": limits}, "lower")
    other.refresh_from_db()
    with pytest.raises(BadInput, match="end at other limits"):
        inheritance.inherit(stage_of(other, "linearization").pk, other.version, released.pk, "why not", user)
    assert stage_of(other, "linearization").state == "open"


def test_a_class_lends_only_what_is_released_on_that_printer(
    client: Client, build: Build, printer: Printer
) -> None:
    with pytest.raises(BadInput, match="only a released mode is lent"):
        set_fallback(build.mode.media.media_class, printer, build.mode)
    assert "coated" in client.get("/media-classes/").content.decode()


# --- baseline and restore --------------------------------------------------------------------


def through_restore(mode: PrintMode, user: User) -> Restore:
    found = restores.start_restore(mode, user)
    read_print(found.sheet_print, user)
    found.refresh_from_db()
    return found


def test_a_restore_after_drift_says_what_drifted_and_brings_it_back(
    client: Client, released: PrintMode, user: User
) -> None:
    let_drift(released.printer, {"C": 1.1})
    released.refresh_from_db()
    client.post(f"/modes/{released.pk}/restore/")
    found = released.restores.get()
    assert client.get(f"/restores/{found.pk}/").status_code == 200
    read_print(found.sheet_print, user)
    page = client.get(f"/restores/{found.pk}/").content.decode()
    assert "C prints 1" in page and "heavier" in page
    client.post(f"/restores/{found.pk}/confirm/")
    found.refresh_from_db()
    read_print(found.confirm_print, user)
    found.refresh_from_db()
    assert found.after["mean"] <= 0.5 < found.drift["mean"]
    before = released.curves
    client.post(f"/restores/{found.pk}/use/", {"reason": ""})
    released.refresh_from_db()
    assert released.curves != before and released.curves == found.curves_after
    assert "restored to its baseline" in released.history.first().history_change_reason
    assert "Drift over all restores" in client.get(f"/modes/{released.pk}/").content.decode()


def test_other_paper_is_told_as_beyond_restoring_and_asks_for_a_reason(
    client: Client, released: PrintMode, user: User
) -> None:
    let_drift(released.printer, {}, 4.0)
    released.refresh_from_db()
    found = through_restore(released, user)
    page = client.get(f"/restores/{found.pk}/").content.decode()
    assert "Restoring is no longer enough" in page and "the paper changed" in page
    read_print(restores.print_confirmation(found), user)
    found.refresh_from_db()
    with pytest.raises(BadInput, match="say why"):
        restores.use_curves(found, "", user)
    client.post(f"/restores/{found.pk}/close/", {"reason": "new paper, new profile"})
    found.refresh_from_db()
    released.refresh_from_db()
    assert found.state == "closed" and released.curves == found.curves_before


def test_one_restore_at_a_time_and_none_without_a_baseline(released: PrintMode, user: User) -> None:
    restores.start_restore(released, user)
    with pytest.raises(BadInput, match="being restored already"):
        restores.start_restore(released, user)
    Baseline.objects.all().delete()
    with pytest.raises(BadInput, match="no baseline"):
        restores.start_restore(released, user)


def test_curves_changed_meanwhile_are_not_overwritten(released: PrintMode, user: User) -> None:
    found = through_restore(released, user)
    read_print(restores.print_confirmation(found), user)
    found.refresh_from_db()
    other = PrintMode.objects.get(pk=released.pk)
    other.curves = CurveSet.straight(dict.fromkeys("CMYK", 0.7)).to_csv()
    other.save()
    with pytest.raises(BadInput, match="changed by somebody else"):
        restores.use_curves(found, "", user)


def test_the_stand_in_can_be_let_drift_from_its_page(client: Client, printer: Printer) -> None:
    client.post(
        f"/printers/{printer.pk}/controls/", {"C": "110", "M": "100", "Y": "100", "K": "95", "paper_b": "2"}
    )
    state = DeviceConnection.objects.get(printer=printer).state
    assert state == {"drift": {"C": 1.1, "K": 0.95}, "paper": [0.0, 0.0, 2.0]}
    assert 'value="110"' in client.get(f"/printers/{printer.pk}/").content.decode()
    assert client.post(f"/printers/{printer.pk}/controls/", {"C": "900"}).status_code == 409


def test_stages_that_are_not_open_take_nothing(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("linearization")
    with pytest.raises(BadInput, match="while a stage that is judged by eye is open"):
        visual.mark(stage_of(build, "ink-limits"), {"C": {"bleed": 60}})
    with pytest.raises(BadInput, match="only grey balance and check"):
        build.refresh_from_db()
        decisions.skip_stage(stage_of(build, "linearization").pk, build.version, "x", user)
    assert Stage.objects.filter(build=build, state="accepted").count() == 1
