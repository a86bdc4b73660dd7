"""Proof in the application: strips printed and judged, files, sets, aims, spot colours, reports, labels,
trends.
"""

from __future__ import annotations

import io
import json
import re
from datetime import timedelta
from html import unescape
from typing import Any

import numpy as np
import pypdfium2
import pytest
import zxingcpp
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.builds.models import Baseline, Build
from greyanchor.checks import services, tolerance_sets, trends
from greyanchor.checks.diagnosing import next_step
from greyanchor.checks.models import (
    Check,
    CheckFigure,
    CheckPrint,
    Drift,
    Schedule,
    StripRecord,
    ToleranceRecord,
)
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.charts import strips
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification import generic_aims
from greyanchor.core.verification.explanations import Cause
from greyanchor.demo.devices import drift as let_drift
from greyanchor.demo.prints import careful_reading
from greyanchor.drawing.labels import SIZES
from greyanchor.library.models import Media, Printer, PrintMode
from greyanchor.library.modes.services import Outdated
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import dry_at_once
from greyanchor.measuring.services import calibrate_white, keep_whole_pass, read_row, start_pass
from greyanchor.profiles.models import AimRecord, SpotRecord
from tests.conftest import PrintRoom
from tests.web.conftest import CHOICES, accept, found_limits, read_stage, stage_of

ISO = "iso12647-7:2016"


@pytest.fixture
def mode(real_mode: PrintMode) -> PrintMode:
    return real_mode


def strip_text(shift: float = 0.0, seed: int = 1, condition: str = "M1", kind: str = "full") -> bytes:
    """Readings of a strip that misses the shipped aim by scatter and a shift of a*."""
    chart = strips.of_kind(kind)
    lab = generic_aims.aim_lab(chart.values())
    lab = lab + 0.2 * np.random.default_rng(seed).standard_normal(lab.shape) + [0, shift, 0]
    return cgats.dumps(readings(chart, lab, condition)).encode()


def readings(chart: ReadingSet, lab: np.ndarray, condition: str = "M1") -> ReadingSet:
    from dataclasses import replace

    return replace(chart, measured_lab=lab, condition=condition)


def send(client: Client, aim: AimRecord | None, *files: tuple[str, bytes], **more: Any) -> Any:
    data = {
        "aim": aim.pk if aim else "",
        "tolerances": ISO,
        "files": [SimpleUploadedFile(n, d) for n, d in files],
        **more,
    }
    return client.post("/checks/new/", data)


def made(aim: AimRecord, user: User, shift: float = 0.0, seed: int = 1, **subject: Any) -> Check:
    return make_check(Subject(**subject), cgats.loads(strip_text(shift, seed)), Order(aim, ISO), user)


# --- from files --------------------------------------------------------------------------------


def test_one_file_becomes_a_check_and_leads_to_its_page(client: Client, aim: AimRecord) -> None:
    answer = send(client, aim, ("proof.txt", strip_text()), name="Harbour plan 12")
    check = Check.objects.get()
    assert (
        answer["Location"] == f"/checks/{check.pk}/"
        and check.verdict == "pass"
        and check.title == "Harbour plan 12"
    )
    page = client.get(answer["Location"]).content.decode()
    assert "Passes, and would pass again 19 times of 20." in page and "Northlight Coated, edition 1" in page


def test_many_files_are_judged_at_once_and_bad_ones_are_named(client: Client, aim: AimRecord) -> None:
    answer = send(
        client,
        aim,
        ("a.txt", strip_text()),
        ("b.txt", strip_text(9.0)),
        ("c.txt", b"nonsense"),
        name="Night run",
    )
    page = answer.content.decode()
    assert Check.objects.count() == 2 and "1 of 3 passed" in page and "c.txt: this is not CGATS text" in page
    assert sorted(c.verdict for c in Check.objects.all()) == ["fail", "pass"]
    assert {c.name for c in Check.objects.all()} == {"Night run: a", "Night run: b"}


def test_what_cannot_be_judged_is_refused_with_the_reason_and_nothing_is_kept(
    client: Client, aim: AimRecord
) -> None:
    chart = strips.of_kind("full")
    foreign = readings(chart, generic_aims.aim_lab(chart.values()))
    object.__setattr__(foreign, "device", np.clip(foreign.device * 0.9 + 0.013, 0, 1))
    lost = cgats.dumps(foreign).encode()
    for data, words in (
        (lost, "holds no value for 54 of 54 patches"),
        (b"", "empty"),
        (strip_text()[:600], "END_DATA"),
    ):
        answer = send(client, aim, ("odd.txt", data))
        assert answer.status_code == 422 and words in answer.content.decode(), words
    assert send(client, None, ("a.txt", strip_text())).status_code == 422
    assert not Check.objects.exists()


def test_m0_readings_warn_on_page_report_and_file(client: Client, aim: AimRecord, user: User) -> None:
    send(client, aim, ("m0.txt", strip_text(condition="M0")))
    check = Check.objects.get()
    assert "read as M0" in client.get(f"/checks/{check.pk}/").content.decode()
    assert any("read as M0" in n for n in client.get(f"/checks/{check.pk}/check.json").json()["notes"])
    assert "read as M0" in pdf_text(client, check)


# --- from the stand-in -------------------------------------------------------------------------


def print_strip(client: Client, mode: PrintMode, aim: AimRecord | None, **more: Any) -> CheckPrint:
    data = {
        "mode": mode.pk,
        "aim": aim.pk if aim else "",
        "tolerances": ISO,
        "corrected": "on",
        "kind": "full",
        "page": "a4",
        "method": "strip",
        "through": "profile",
        **more,
    }
    answer = client.post("/checks/strip/", data)
    assert answer.status_code == 302, answer.content.decode()[-3000:]
    found = CheckPrint.objects.get(pk=int(answer["Location"].split("/")[-2]))
    client.post(f"/checks/prints/{found.pk}/print/")
    return found


def read(found: CheckPrint, user: User) -> Check:
    found.sheet_print.refresh_from_db()
    job = found.sheet_print
    keep_whole_pass(job, careful_reading(job, job.passes.count() + 1), "stand-in reader", user)
    found.refresh_from_db()
    assert found.made_check_id, found.error
    return Check.objects.get(pk=found.made_check_id)


def test_a_strip_printed_through_the_mode_passes_and_its_fault_is_diagnosed(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    good = read(print_strip(client, mode, aim), user)
    assert good.verdict == "pass" and good.guard["measured"] is False
    mode.refresh_from_db()
    assert mode.last_verdict == "pass"
    let_drift(mode.printer, {"C": 1.2})
    bad = read(print_strip(client, mode, aim), user)
    assert bad.verdict == "fail"
    page = client.get(f"/checks/{bad.pk}/diagnosis/").content.decode()
    assert "Cyan prints too much" in page.split("<li")[1] and f"/modes/{mode.pk}/#restore" in page
    assert Check.objects.get(pk=bad.pk).diagnosis[0]["key"] == "channel"


def test_a_strip_with_a_misread_row_is_not_judged_until_that_is_settled(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    read(print_strip(client, mode, aim), user)
    found = print_strip(client, mode, aim)
    job = found.sheet_print
    job.refresh_from_db()
    seen = careful_reading(job, 1)
    second = np.flatnonzero(seen.rows == 2)
    seen.spectra[second] = seen.spectra[second][::-1].copy()
    keep_whole_pass(job, seen, "stand-in reader", user)
    found.refresh_from_db()
    assert found.made_check_id is None
    page = client.get(f"/checks/prints/{found.pk}/").content.decode()
    assert "Row 2 of pass 1: it was read backwards" in page and "Verdicts" not in page
    client.post(f"/prints/{job.pk}/use-suspect/", {"reason": "looked at under the loupe"})
    found.refresh_from_db()
    assert found.made_check_id is not None, "a person decided, and is named"
    page = client.get(f"/checks/prints/{found.pk}/").content.decode()
    assert "Used all the same by" in page and "looked at under the loupe" in page
    page = client.get(f"/checks/{found.made_check_id}/diagnosis/").content.decode()
    assert "Row 2 misread" in page and "Read row 2 again" in page


def test_spot_colours_are_printed_by_recipe_and_checked_as_a_group(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    book = b"name,L,a,b\nBuoy red,46,48,30\nLand buff,86,3,24\n"
    client.post("/colours/spots/import/", {"file": SimpleUploadedFile("book.csv", book)})
    spots = list(SpotRecord.objects.all())
    assert [s.name for s in spots] == ["Buoy red", "Land buff"]
    page = client.get(f"/colours/spots/?mode={mode.pk}").content.decode()
    assert "all within reach" in page
    check = read(print_strip(client, mode, aim, spots=[s.pk for s in spots]), user)
    spot = next(c for c in check.criteria if c["id"] == "spot_max")
    assert (
        spot["patches"] == 2 and spot["verdict"] == "pass" and set(check.spots) == {"Buoy red", "Land buff"}
    )
    client.post(f"/colours/spots/{spots[0].pk}/remove/")
    assert Check.objects.get(pk=check.pk).spots["Buoy red"]["lab"] == [46.0, 48.0, 30.0]


def test_uniformity_and_repeatability_hold_a_print_to_itself(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    even = read(print_strip(client, mode, None, kind="even", tolerances="uniformity", through="curves"), user)
    assert even.verdict == "pass" and even.aim is None and len(even.result["ids"]) == 36
    first = read(print_strip(client, mode, aim), user)
    again = read(print_strip(client, mode, aim, tolerances="repeatability", against=first.pk), user)
    assert again.against == first and again.verdict == "pass"
    mode.refresh_from_db()
    assert mode.last_check_summary == first.summary
    refused = client.post(
        "/checks/new/", {"tolerances": "repeatability", "files": [SimpleUploadedFile("a.txt", strip_text())]}
    )
    assert "choose which" in refused.content.decode()


def test_a_strip_without_what_it_needs_is_refused(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    PrintMode.objects.filter(pk=mode.pk).update(profile=None)
    data = {
        "mode": mode.pk,
        "aim": aim.pk,
        "tolerances": ISO,
        "kind": "full",
        "page": "a4",
        "method": "strip",
        "through": "profile",
    }
    answer = client.post("/checks/strip/", data)
    assert answer.status_code == 422 and "has no profile" in answer.content.decode()
    assert client.post("/checks/strip/", {**data, "kind": "own:99", "through": "curves"}).status_code == 422
    assert not CheckPrint.objects.exists()


# --- grey balance in the log ---------------------------------------------------------------------


@pytest.mark.parametrize("asked", [True, False])
def test_grey_balance_is_a_stage_for_builds_that_ask_for_it(
    client: Client, printer: Printer, media: Media, user: User, asked: bool
) -> None:
    form = {
        **CHOICES,
        "name": "Greys",
        "printer": printer.pk,
        "ink_set": printer.ink_sets.get().pk,
        "media": media.pk,
        "method": "strip",
        "page": "a4",
        "dots": 1,
    }
    client.post("/builds/new/", {**form, "greys": "on"} if asked else form)
    build = Build.objects.get()
    accept(build, "ink-limits", user, found_limits(read_stage(build, "ink-limits", user)))
    read_stage(build, "linearization", user)
    accept(build, "linearization", user, {}, "curves are confirmed elsewhere")
    greys = stage_of(build, "grey-balance")
    assert greys.state == ("open" if asked else "accepted") and greys.source == ("" if asked else "skipped")
    assert stage_of(build, "total-ink").state == ("waiting" if asked else "open")


# --- sets, aims, strips ------------------------------------------------------------------------


def test_a_shipped_set_is_copied_edited_exported_and_imported(
    client: Client, aim: AimRecord, user: User
) -> None:
    assert client.post(f"/checks/tolerances/{ISO}/save/", {}).status_code == 404
    key = client.post(f"/checks/tolerances/{ISO}/copy/")["Location"].split("/")[-2]
    record = ToleranceRecord.objects.get(key=key)
    form = {
        "version": record.version,
        "title": "House",
        "source": "ours",
        "edition": "3",
        "why": "tighter",
        "grades": "gold 50, silver 100",
        "c0-id": "mean",
        "c0-title": "Mean",
        "c0-group": "all",
        "c0-query": "",
        "c0-measure": "de00",
        "c0-statistic": "mean",
        "c0-limit": "1,5",
        "c0-warning": "1.0",
        "c0-weight": "2",
        "c1-id": "",
        "c1-title": "Blues",
        "c1-group": "all",
        "c1-query": "C >= 40 and Y = 0",
        "c1-measure": "dch",
        "c1-statistic": "p90",
        "c1-limit": "3",
        "c1-warning": "",
        "c1-weight": "",
    }
    assert client.post(f"/checks/tolerances/{key}/save/", form).status_code == 302
    record.refresh_from_db()
    assert (
        record.title == "House"
        and record.version == 2
        and [c.limit for c in record.tolerances.criteria] == [1.5, 3.0]
    )
    stale = client.post(f"/checks/tolerances/{key}/save/", form)
    assert stale.status_code == 422 and "changed by somebody else" in stale.content.decode()
    text = client.get(f"/checks/tolerances/{key}/set.json").content
    client.post("/checks/tolerances/import/", {"file": SimpleUploadedFile("house.json", text)})
    copy = ToleranceRecord.objects.exclude(pk=record.pk).get()
    assert copy.tolerances.criteria == record.tolerances.criteria and copy.key != record.key
    send(client, aim, ("a.txt", strip_text()), tolerances=key)
    check = Check.objects.get()
    assert check.grade == "gold" and check.tolerance_data["edition"] == "3"
    client.post(f"/checks/tolerances/{key}/remove/")
    assert Check.objects.get().tolerance_data["title"] == "House"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"c0-limit": "wide"}, "Row 1, limit"),
        ({"c0-statistic": "mode"}, "mode"),
        ({"c0-query": "C >"}, "lacks a channel"),
        ({"grades": "gold"}, "grade"),
        ({"c0-title": ""}, "no criteria"),
    ],
)
def test_an_edit_that_makes_no_sense_is_named_and_nothing_is_saved(
    client: Client, user: User, change: dict[str, str], words: str
) -> None:
    record = tolerance_sets.copy_set(ISO, user)
    form = {
        "version": 1,
        "title": "House",
        "why": "x",
        "c0-id": "mean",
        "c0-title": "Mean",
        "c0-group": "all",
        "c0-query": "",
        "c0-measure": "de00",
        "c0-statistic": "mean",
        "c0-limit": "1.5",
        "c0-warning": "",
        "c0-weight": "",
        **change,
    }
    answer = client.post(f"/checks/tolerances/{record.key}/save/", form)
    assert answer.status_code == 422 and words in answer.content.decode()
    record.refresh_from_db()
    assert record.version == 1 and len(record.tolerances.criteria) > 5


def test_a_json_set_with_an_unknown_statistic_is_refused_by_name(client: Client) -> None:
    bad = json.dumps(
        {
            "id": "x",
            "criteria": [{"id": "m", "group": "all", "measure": "de00", "statistic": "mode", "limit": 1}],
        }
    )
    answer = client.post(
        "/checks/tolerances/import/", {"file": SimpleUploadedFile("bad.json", bad.encode())}, follow=True
    )
    assert "statistic &#x27;mode&#x27;" in answer.content.decode() and not ToleranceRecord.objects.exists()


def test_two_people_editing_one_set_do_not_overwrite_each_other(user: User) -> None:
    record = tolerance_sets.copy_set(ISO, user)
    tolerance_sets.change_set(record.pk, 1, {**record.data, "title": "first"}, user, "a")
    with pytest.raises(Outdated):
        tolerance_sets.change_set(record.pk, 1, {**record.data, "title": "second"}, user, "b")
    assert ToleranceRecord.objects.get().title == "first"


def test_an_aim_gets_editions_and_a_check_keeps_the_one_it_used(
    client: Client, aim: AimRecord, user: User
) -> None:
    old = made(aim, user)
    shifted = generic_aims.aim_data()
    object.__setattr__(shifted, "measured_lab", shifted.measured_lab + [1.0, 0, 0])
    file = SimpleUploadedFile("new.txt", cgats.dumps(shifted).encode())
    answer = client.post(
        "/checks/aims/add/", {"name": "Northlight Coated", "source": "press run in May", "file": file}
    )
    second = AimRecord.objects.get(edition=2)
    assert answer["Location"] == f"/checks/aims/{second.pk}/" and second.source == "press run in May"
    new = made(second, user)
    assert old.aim == aim and new.result["aim"][0][0] == pytest.approx(
        old.result["aim"][0][0] + 1.0, abs=1e-3
    )
    page = client.get(f"/checks/aims/{second.pk}/").content.decode()
    assert "edition 1" in page and "substrate-corrected" in page
    for name, data in (("x.txt", b"no aim"), ("x.txt", cgats.dumps(strips.of_kind("short")).encode())):
        refused = client.post("/checks/aims/add/", {"file": SimpleUploadedFile(name, data)}, follow=True)
        assert "Nothing was added" in refused.content.decode()


def test_the_readings_of_a_check_and_a_profile_and_a_list_become_aims(
    client: Client, aim: AimRecord, mode: PrintMode, user: User
) -> None:
    check = made(aim, user)
    client.post(f"/checks/{check.pk}/as-aim/", {"name": "House baseline"})
    baseline = AimRecord.objects.get(kind="mode")
    assert made(baseline, user).result["differences"] == pytest.approx([0.0] * 54, abs=1e-3)
    for name, data, kind in (
        ("p.icc", bytes(mode.profile.data), "profile"),
        ("book.csv", b"name,L,a,b\nBuoy red,46,62,38\n", "spots"),
    ):
        client.post("/checks/aims/add/", {"name": kind, "file": SimpleUploadedFile(name, data)})
        assert AimRecord.objects.get(name=kind).kind == kind
        assert client.get(f"/checks/aims/{AimRecord.objects.get(name=kind).pk}/").status_code == 200


def test_the_baseline_of_a_mode_becomes_an_aim(
    client: Client, mode: PrintMode, room: PrintRoom, user: User
) -> None:
    from greyanchor.core.calibration.restore import short_chart

    assert "no baseline" in client.post(f"/modes/{mode.pk}/baseline-aim/", follow=True).content.decode()
    seen = room.read(short_chart(), seed=21)
    Baseline.objects.create(
        mode=mode, text=cgats.dumps(seen), curves=mode.curves, environment_hash="x", confirmed=True
    )
    client.post(f"/modes/{mode.pk}/baseline-aim/")
    record = AimRecord.objects.get(kind="mode")
    again = room.read(short_chart(), seed=22)
    check = make_check(Subject(mode), again, Order(record, ISO), user)
    mean = next(c["value"] for c in check.criteria if c["id"] == "mean")
    assert 0.0 < mean < 0.8 and check.aim == record


def test_the_next_step_after_misread_rows_leads_to_reading_them_again(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    found = print_strip(client, mode, aim)
    dry_at_once(found.sheet_print_id)
    current = start_pass(SheetPrint.objects.get(pk=found.sheet_print_id), user)
    calibrate_white(current.pk)
    for row in (1, 2, 3):
        while not read_row(current.pk, row).kept:
            pass
    found.refresh_from_db()
    check = Check.objects.get(pk=found.made_check_id)
    step = next_step(check, Cause("rows", "Row 2 misread", "", 1.0, 0.0, rows=(2,)))
    assert step == {"words": "Read row 2 again", "address": f"/checks/prints/{found.pk}/?rows=2"}
    assert "Read row 2 again" in client.get(step["address"]).content.decode()
    answer = client.post(f"/checks/prints/{found.pk}/reopen/", {"rows": "2"})
    current.refresh_from_db()
    assert (
        answer["Location"] == f"/readings/{current.pk}/"
        and current.state == "open"
        and current.rows.count() == 2
    )
    while not read_row(current.pk, 2).kept:
        pass
    assert Check.objects.filter(sheet_print=found.sheet_print).count() == 2


def test_a_strip_described_by_a_file_can_be_printed(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    text = cgats.dumps(strips.of_kind("short")).encode()
    client.post("/checks/strips/add/", {"name": "Pilot strip", "file": SimpleUploadedFile("s.txt", text)})
    strip = StripRecord.objects.get()
    for form, head in (("pdf", b"%PDF"), ("tif", b"II"), ("txt", b"CGATS")):
        assert client.get(f"/checks/strips/own:{strip.pk}/strip.{form}").content[: len(head)] == head
    check = read(print_strip(client, mode, aim, kind=f"own:{strip.pk}", page="330x100"), user)
    assert len(check.result["ids"]) == 21
    refused = client.post("/checks/strips/add/", {"file": SimpleUploadedFile("s.txt", b"x")}, follow=True)
    assert "Nothing was added" in refused.content.decode()


# --- reports, labels, sign-off -----------------------------------------------------------------


def pdf_text(client: Client, check: Check) -> str:
    data = client.get(f"/checks/{check.pk}/report.pdf").content
    document = pypdfium2.PdfDocument(data)
    return " ".join(" ".join(p.get_textpage().get_text_bounded().split()) for p in document)


def test_the_report_says_everything_on_one_page_with_patches_after_it(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    check = made(aim, user, 4.0, mode=mode, name="Plan № 7 — Łódź")
    text = pdf_text(client, check)
    for word in (
        "FAIL",
        "Northlight Coated, edition 1",
        "ISO 12647-7",
        "Petrel 44",
        "Mara Voss",
        "not tested",
        check.seal[:16],
        "1-1",
    ):
        assert word in text, word
    for c in check.criteria:
        if c["limit"] and c["value"] is not None:
            assert f"{c['value']:.2f}" in text
    first = pypdfium2.PdfDocument(client.get(f"/checks/{check.pk}/report.pdf").content)
    assert len(first) == 3 and "Composed greys" in first[0].get_textpage().get_text_bounded()
    html = client.get(f"/checks/{check.pk}/report/").content.decode()
    assert "Plan № 7 — Łódź" in html and check.seal[:16] in html


@pytest.mark.parametrize("size", list(SIZES))
def test_a_label_scanned_from_its_picture_leads_to_the_check(
    client: Client, aim: AimRecord, user: User, size: str
) -> None:
    check = made(aim, user)
    page = pypdfium2.PdfDocument(client.get(f"/checks/{check.pk}/label.pdf?size={size}").content)[0]
    picture = io.BytesIO()
    page.render(scale=4).to_pil().save(picture, "PNG")
    from PIL import Image

    found = zxingcpp.read_barcodes(Image.open(picture))
    assert [f.text for f in found] == [f"http://testserver/checks/{check.pk}/"]
    text = " ".join(page.get_textpage().get_text_bounded().split())
    assert "PASS" in text and "Northlight Coated" in text and "Mara Voss" in text and " of " in text
    wide, tall = (v / 25.4 * 72 for v in SIZES[size])
    assert page.get_size() == pytest.approx((wide, tall), abs=0.1)


def test_what_was_signed_off_cannot_be_changed_without_a_trace(
    client: Client, aim: AimRecord, user: User
) -> None:
    check = made(aim, user)
    client.post(f"/checks/{check.pk}/sign/")
    check.refresh_from_db()
    assert check.signed_by == user
    with pytest.raises(BadInput, match="signed off already"):
        services.sign_off(check.pk, user)
    with pytest.raises(BadInput, match="say why"):
        services.amend(check.pk, "other", "", "", user)
    client.post(f"/checks/{check.pk}/amend/", {"name": "Plan 9", "note": "for the pilot", "why": "wrong job"})
    trace = list(check.amendments.values_list("what", "before", "after", "why"))
    assert ("name", "", "Plan 9", "wrong job") in trace and len(trace) == 2
    assert "changed after this check was signed off" in pdf_text(client, check)
    Check.objects.filter(pk=check.pk).update(verdict="fail")
    assert "its seal does not match" in client.get(f"/checks/{check.pk}/").content.decode()
    unsigned = made(aim, user, seed=2)
    Check.objects.filter(pk=unsigned.pk).update(readings="other")
    with pytest.raises(BadInput, match="no longer as it was made"):
        services.sign_off(unsigned.pk, user)


def test_everything_comes_as_json_and_csv(client: Client, aim: AimRecord, user: User) -> None:
    check = made(aim, user)
    found = client.get(f"/checks/{check.pk}/check.json").json()
    assert (
        found["verdict"] == "pass"
        and found["tolerance_set"]["id"] == ISO
        and len(found["patches"]["ids"]) == 54
    )
    assert found["other_paper"]["corrected"] is True
    assert client.get(f"/checks/{check.pk}/patches.csv").content.decode().count("\n") == 55
    assert cgats.loads(client.get(f"/checks/{check.pk}/readings.txt").content).lab().shape == (54, 3)


def test_a_1617_patch_check_comes_quickly_and_whole(client: Client, user: User) -> None:
    random = np.random.default_rng(1)
    chart = ReadingSet(
        tuple(str(i) for i in range(1617)),
        tuple("CMYK"),
        np.vstack([np.zeros((1, 4)), np.round(random.random((1616, 4)), 3)]),
    )
    lab = generic_aims.aim_lab(chart.values())
    big = AimRecord.objects.create(name="big", source="x", data=cgats.dumps(readings(chart, lab)).encode())
    answer = send(client, big, ("big.txt", cgats.dumps(readings(chart, lab + 0.1)).encode()))
    assert client.get(answer["Location"]).status_code == 200
    assert len(Check.objects.get().result["ids"]) == 1617
    assert len(pypdfium2.PdfDocument(client.get(answer["Location"] + "report.pdf").content)) == 1 + -(
        -1617 // 52
    )


# --- trends, schedules, comparisons ------------------------------------------------------------


def series(mode: PrintMode, aim: AimRecord, user: User, shifts: list[float], every: int = 7) -> list[Check]:
    out = []
    for i, shift in enumerate(shifts):
        at = timezone.now() - timedelta(days=every * (len(shifts) - 1 - i))
        out.append(make_check(Subject(mode), cgats.loads(strip_text(shift, i)), Order(aim, ISO), user, at))
    return out


def test_a_drift_that_will_cross_is_reported_on_the_start_page_and_drawn(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    series(mode, aim, user, [0.12 * k for k in range(14)])
    drift = Drift.objects.get()
    assert drift.crosses_at > timezone.now()
    start = client.get("/").content.decode()
    assert mode.name in start.split("Drifting")[1].split("Failing")[0] and "meets its limit in about" in start
    link = re.search(rf'href="([^"]*of=mode-{mode.pk}[^"]*)"', start.split("Drifting")[1])
    assert link, "the drift leads to its trend"
    page = client.get(unescape(link[1])).content.decode()
    assert "Meets its limit in about" in page and "upright line" in page
    csv = client.get(
        f"/checks/trends/series.csv?of=mode-{mode.pk}&tolerances={ISO}&criterion=mean"
    ).content.decode()
    assert csv.count("\n") == 15
    for of in (f"printer-{mode.printer_id}", f"site-{mode.printer.site_id}", ""):
        assert client.get(f"/checks/trends/?of={of}&tolerances={ISO}&criterion=mean").status_code == 200


def test_a_steady_mode_is_not_drifting_and_its_trend_is_what_was_measured(
    mode: PrintMode, aim: AimRecord, user: User
) -> None:
    checks = series(mode, aim, user, [0.5] * 12)
    found = trends.ask(trends.Question("mean", ISO, mode=mode.pk))
    wanted = [next(c["value"] for c in k.criteria if c["id"] == "mean") for k in checks]
    assert (
        found.values == pytest.approx(wanted)
        and found.limit == 2.5
        and found.days[-1] == pytest.approx(0, abs=0.1)
    )
    assert not [d for d in Drift.objects.all() if d.crosses_at]


def test_schedules_tell_what_is_due(client: Client, mode: PrintMode, aim: AimRecord, user: User) -> None:
    form = {
        "mode": mode.pk,
        "every_days": 7,
        "aim": aim.pk,
        "tolerances": ISO,
        "corrected": "on",
        "strip": "short",
    }
    client.post("/checks/schedules/save/", form)
    plan = Schedule.objects.get()
    assert trends.dues()[0].schedule == plan and "today" in client.get("/").content.decode()
    series(mode, aim, user, [0.0])
    assert trends.dues() == [] and trends.dues(only_soon=False)[0].days in (6, 7)
    Check.objects.update(made_at=timezone.now() - timedelta(days=9))
    Schedule.objects.update(begins=timezone.now() - timedelta(days=30))
    assert trends.dues()[0].days == -2
    assert "overdue since" in client.get("/checks/schedules/").content.decode()
    assert f'value="{mode.pk}" selected' in client.get(f"/checks/new/?mode={mode.pk}").content.decode()
    client.post(f"/checks/schedules/{plan.pk}/remove/")
    assert not Schedule.objects.exists()


def test_checks_and_printers_are_compared_and_modes_matched(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    a, b = series(mode, aim, user, [0.0, 2.0])
    page = client.get(f"/checks/compare/?a=check-{a.pk}&b=check-{b.pk}").content.decode()
    apart = np.array(a.result["measured"]) - np.array(b.result["measured"])
    assert "54 of 54 patches are on both" in page and np.abs(apart[:, 1]).mean() > 1
    site = client.get(
        f"/checks/compare/?a=site-{mode.printer.site_id}&b=printer-{mode.printer_id}&tolerances={ISO}"
    ).content.decode()
    assert "2 checks on the left, 2 on the right; figures are means" in site
    for odd in ("check-999", f"before-{mode.pk}", "x", "printer-999"):
        assert 'role="alert"' in client.get(f"/checks/compare/?a={odd}&b=check-{b.pk}").content.decode(), odd
    ranked = client.get(f"/checks/match/?aim={aim.pk}&tolerances={ISO}&corrected=on").content.decode()
    assert mode.name in ranked and "Look closer" in ranked


def test_hundreds_of_checks_are_one_trend(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    first = made(aim, user, mode=mode)
    now = timezone.now()
    fields = {
        f.name: getattr(first, f.name) for f in Check._meta.concrete_fields if f.name not in ("id", "made_at")
    }
    Check.objects.bulk_create(
        [Check(**fields, made_at=now - timedelta(hours=4 * k)) for k in range(1, 500)], batch_size=500
    )
    CheckFigure.objects.bulk_create(
        [
            CheckFigure(check_made_id=pk, criterion="mean", value=1.0 + (pk % 7) / 20, limit=2.5)
            for pk in Check.objects.exclude(pk=first.pk).values_list("pk", flat=True)
        ]
    )
    found = trends.ask(trends.Question("mean", ISO, mode=mode.pk))
    assert len(found.values) == 500 and found.trend.upper is not None
    assert client.get(f"/checks/trends/?of=mode-{mode.pk}&tolerances={ISO}&criterion=mean").status_code == 200


def test_every_page_of_proof_answers_and_narrows(
    client: Client, mode: PrintMode, aim: AimRecord, user: User
) -> None:
    good, bad = made(aim, user, mode=mode), made(aim, user, 9.0, name="<b>night</b>")
    for address in (
        "new/",
        "trends/",
        "schedules/",
        "compare/",
        "match/",
        "tolerances/",
        "aims/",
        "spots/",
        "strips/",
        f"tolerances/{ISO}/",
        "tolerances/uniformity/",
        f"predict/{mode.profile_id}/",
    ):
        assert client.get(f"/checks/{address}", follow=True).status_code == 200, address
    page = client.get("/checks/?verdict=fail").content.decode()
    assert "&lt;b&gt;night" in page and f"/checks/{good.pk}/" not in page
    assert f"/checks/{bad.pk}/" not in client.get("/checks/?q=harbour").content.decode()
    assert client.get("/checks/tolerances/nothing/").status_code == 404
    assert client.get("/checks/99999/").status_code == 404


def test_where_the_paper_decides_its_greys_are_drawn(client: Client, aim: AimRecord, user: User) -> None:
    same, other = made(aim, user), made(aim, user, 6.0)
    assert "Why the paper decides" not in client.get(f"/checks/{same.pk}/").content.decode()
    page = client.get(f"/checks/{other.pk}/").content.decode()
    assert "Why the paper decides" in page
    assert "the aim on its own paper" in page
    assert page.index("this print") < page.index("the aim on this paper")
