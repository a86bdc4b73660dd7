"""Runs: laid out, changed, prepared to one file, printed, proved, and gone on with."""

from __future__ import annotations

import io
import json
import re
from pathlib import Path

import ezdxf
import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.test import Client
from django.utils import timezone
from PIL import Image, ImageSequence
from reportlab.pdfgen.canvas import Canvas

from greyanchor.accounts.roles import acting
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.separation.plane_reading import PlaneReader
from greyanchor.library.models import PrintMode
from greyanchor.measuring import services as reading
from greyanchor.printroom import files, intake, jobs, prints, run_cutting, run_pieces, run_preparing, runs
from greyanchor.printroom.models import Artwork, Job, MediaRoll, Print, PrintFile, Run
from greyanchor.profiles.models import AimRecord
from tests.devices.conftest import Running, until
from tests.web.printroom.conftest import picture
from tests.web.printroom.test_machines import finished, words


@pytest.fixture(autouse=True)
def _as_the_machine(mode: PrintMode) -> None:
    mode.printer.model = "Petrel 44"
    mode.printer.save()
    mode.ink_set.name = "Tarn pigment"
    mode.ink_set.save()


@pytest.fixture
def two(machine: Running, mode: PrintMode, user: User, django_capture_on_commit_callbacks) -> list[Job]:
    """Two jobs of one mode."""
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        for seed in (1, 2):
            intake.add(ContentFile(picture(seed)), f"sticker {seed}.png", user)
    first, second = Artwork.objects.order_by("pk")
    with acting(user):
        return [
            jobs.make_job(first, user, mode, choices={"width_mm": 30.0}),
            jobs.make_job(second, user, mode, choices={"width_mm": 20.0}),
        ]


@pytest.fixture
def run(two: list[Job], user: User) -> Run:
    with acting(user):
        return runs.make(two, user)


def prepared(run: Run, user: User, capture) -> PrintFile:  # type: ignore[no-untyped-def]
    with capture(execute=True), acting(user):
        record = run_preparing.order_run(run, user)
    record.refresh_from_db()
    assert record.state == "done", record.message
    return record


def dots_of(record: PrintFile) -> np.ndarray:
    """Dots (inks, rows, columns) of a print file; 1 is ink."""
    with Image.open(files.local(record.file)) as file:
        return np.stack([~np.asarray(page) for page in ImageSequence.Iterator(file)]).astype(np.uint8)


def test_a_run_takes_the_width_that_the_machine_says(machine: Running, two: list[Job], user: User) -> None:
    machine.server.machine.set("width_mm", 432.0)
    with acting(user):
        assert runs.make(two, user).width_mm == 432.0
        machine.server.machine.set("media", "Something else 100")
        known = runs.make(two, user).width_mm
        assert known == min(two[0].mode.media.width_mm, two[0].mode.printer.width_mm), (
            "not that of other media"
        )


def test_jobs_of_several_modes_share_no_run(two: list[Job], user: User) -> None:
    with acting(user):
        two[1].mode = None
        with pytest.raises(BadInput, match="sticker 2.png has no print mode yet"):
            runs.make(two, user)
        with pytest.raises(BadInput, match="choose the jobs"):
            runs.make([], user)


def test_changes_are_undone_and_two_people_do_not_overwrite_one_another(run: Run, user: User) -> None:
    with acting(user):
        first = run.parts.first()
        assert first is not None
        changed = runs.change(run, {"copies": {first.job_id: 5}, "rules": {"gap": 12.0}}, run.version)
        assert len(changed.places) == 6 and changed.laid_by.gap == 12.0
        with pytest.raises(BadInput, match="somebody else changed this run"):
            runs.change(run, {"rules": {"gap": 1.0}}, run.version)
        back = runs.undo(changed, changed.version)
        assert len(back.places) == 2 and back.laid_by.gap == 5.0 and run.parts.first().copies == 1
        again = runs.undo(back, back.version, "redo")
        assert len(again.places) == 6
        fewer = runs.take_off(again, first.job_id, again.version)
        assert {p["id"] for p in fewer.places} != {str(first.job_id)} and fewer.parts.count() == 1
        with pytest.raises(BadInput, match="the last job stays"):
            runs.take_off(fewer, fewer.parts.get().job_id, fewer.version)


def test_what_was_laid_by_hand_stays_where_it_is(run: Run, user: User) -> None:
    with acting(user):
        moved = [{**p, "x": p["x"] + 100.0, "y": 40.0} for p in run.places]
        laid = runs.place(run, moved, run.version)
        assert laid.by_hand and {p["y"] for p in laid.places} == {40.0}
        first = laid.parts.first()
        more = runs.change(laid, {"copies": {first.job_id: 2}}, laid.version)
        assert more.by_hand and len(more.places) == 3
        kept = {(p["id"], p["copy"]): p for p in more.places}
        assert all(kept[p["id"], p["copy"]]["x"] == p["x"] for p in moved), "they did not move"
        new = kept[str(first.job_id), 2]
        assert new["y"] >= 40.0 + min(p["height"] for p in moved)
        over = [{**p, "x": 0.0, "y": 0.0} for p in more.places]
        with pytest.raises(
            BadInput, match=r"sticker \d.png, copy 1, and sticker \d.png, copy \d, lie nearer"
        ):
            runs.place(more, over, more.version)
        with pytest.raises(BadInput, match="not every piece has a place"):
            runs.place(more, more.places[:2], more.version)
        laid = runs.lay_again(more, more.version)
        assert not laid.by_hand and min(p["y"] for p in laid.places) == 0.0


def test_the_table_shows_every_piece_and_changes_in_place(client: Client, run: Run) -> None:
    page = client.get(f"/runs/{run.pk}/").content.decode()
    assert page.count("data-piece=") == 2 and "Prepare for" in page
    sent = {
        "version": run.version, "way": "save", "align": "middle", "gap": "3,5", "cut": "row", "advance": "50",
        "crop": "on", "line": "on", "hem": "0", "eyelets": "0", f"copies_{run.parts.first().job_id}": "4",
    }  # fmt: skip
    part = client.post(f"/runs/{run.pk}/change/", sent, headers={"HX-Request": "true"})
    shown = part.content.decode()
    assert part.status_code == 200 and shown.count("data-piece=") == 5 and "<html" not in shown
    run.refresh_from_db()
    rules = run.laid_by
    assert (rules.way, rules.align, rules.gap, rules.cut, rules.advance) == (
        "save",
        "middle",
        3.5,
        "row",
        50.0,
    )
    assert rules.crop and rules.line and not rules.cutter
    refused = client.post(f"/runs/{run.pk}/change/", {**sent, "version": run.version, "gap": "9999"},
                          headers={"HX-Request": "true"})  # fmt: skip
    assert "The gap lies between 0 and 500 mm, not at 9999" in refused.content.decode()
    stale = client.post(
        f"/runs/{run.pk}/places/", {"version": 0, "places": "[]"}, headers={"HX-Request": "true"}
    )
    assert "omebody else changed this run" in stale.content.decode()
    image = re.search(rf"/runs/{run.pk}/pieces/[\d.]+-[01]\.png", page)
    assert image is not None
    seen = Image.open(io.BytesIO(client.get(image.group()).content))
    assert seen.format == "PNG" and seen.width <= 480
    listed = words(client, "/runs/?q=sticker")
    assert "1 run" in listed and "being laid out" in listed
    assert "No run is like that" in words(client, "/runs/?q=nothing")


def test_places_are_sent_by_the_table(client: Client, run: Run) -> None:
    moved = [{**p, "y": p["y"] + 10.0} for p in run.places]
    client.post(f"/runs/{run.pk}/places/", {"version": run.version, "places": json.dumps(moved)})
    run.refresh_from_db()
    assert run.by_hand and run.places[0]["y"] == 10.0
    for wrong in ("{", "[1]", '[{"id": "x"}]'):
        answer = client.post(
            f"/runs/{run.pk}/places/", {"version": run.version, "places": wrong}, follow=True
        )
        assert answer.status_code == 200
    run.refresh_from_db()
    assert run.places[0]["y"] == 10.0


def test_a_run_becomes_one_print_file_with_each_piece_in_its_place(
    run: Run, user: User, django_capture_on_commit_callbacks
) -> None:
    with acting(user):
        first, second = run.parts.all()
        run = runs.change(
            run, {"copies": {first.job_id: 3}, "rules": {"line": False, "advance": 8.0}}, run.version
        )
    record = prepared(run, user, django_capture_on_commit_callbacks)
    dots = dots_of(record)
    scale = record.facts["resolution"] / 25.4
    laid = run_pieces.drawn(run)
    assert dots.shape[2] == pytest.approx(laid.width * scale, abs=1)
    assert dots.shape[1] == pytest.approx(laid.length * scale, abs=1)
    cyan = float(dots[0].mean())
    copies = []
    for p in laid.pieces:
        x, y = round(p.x * scale), round(p.y * scale)
        part = dots[:, y : y + round(p.height * scale), x : x + round(p.width * scale)]
        assert 0.02 < part.mean() < 0.9, p.id
        if p.id == str(first.job_id):
            copies.append(part.copy())
        part[:] = 0
    assert not dots.any(), "nothing but the pieces is printed"
    assert all((c == copies[0]).all() for c in copies[1:]), "each copy is the same to the dot"
    ticket = record.ticket
    assert {j["job"] for j in ticket["jobs"]} == {first.job_id, second.job_id}
    assert ticket["places"] == run.places and len(ticket["hash"]) == 16
    inside = PlaneReader(files.local(record.file)).ticket
    assert inside["ink_ml"] == pytest.approx(record.facts["ink_ml"], abs=1e-3), "the machine need not count"
    area = laid.width * laid.length / 1e6
    assert record.facts["ink_ml"]["C"] == pytest.approx(LOAD_AT_FULL * area * cyan, rel=0.05)
    with Image.open(files.local(run_preparing.art_name(record))) as art:
        assert art.width / art.height == pytest.approx(laid.width / laid.length, rel=0.05)
    assert not files.local(f"runs/{record.pk}").exists(), "what was between is gone"
    assert Print.objects.get().state == "held", "it lies on the shelf of its machine"
    with acting(user), pytest.raises(BadInput, match="is prepared"):
        runs.change(Run.objects.get(pk=run.pk), {"rules": {"gap": 1.0}}, run.version + 1)


def test_a_turned_piece_is_printed_turned(
    run: Run, user: User, django_capture_on_commit_callbacks, mode: PrintMode
) -> None:
    with acting(user):
        job = run.parts.first().job
        jobs.change(job, {"crop": [0.0, 0.0, 1.0, 0.4]}, job.version)
        run = runs.change(run, {"rules": {"line": False}, "name": "turned"}, run.version)
        flat = next(p for p in run.places if p["id"] == str(job.pk))
        others = [p for p in run.places if p["id"] != str(job.pk)]
        upright = {**flat, "turned": True, "x": 200.0, "y": 0.0}
        run = runs.place(run, [upright, *others], run.version)
    record = prepared(run, user, django_capture_on_commit_callbacks)
    scale = record.facts["resolution"] / 25.4
    found = {p.id: p for p in run_pieces.drawn(run).pieces}[str(job.pk)]
    assert found.height > found.width
    dots = dots_of(record)
    part = dots[:, : round(found.height * scale), round(200.0 * scale) : round((200.0 + found.width) * scale)]
    single = runs.make([job], user)
    other = prepared(single, user, django_capture_on_commit_callbacks)
    plain = dots_of(other)[:, : round(found.width * scale), : round(found.height * scale)]

    def coarse(planes: np.ndarray) -> np.ndarray:
        """Ink in squares of 20 dots."""
        down, across = (range(0, planes.shape[i] - 20, 20) for i in (1, 2))
        return np.add.reduceat(np.add.reduceat(planes.astype(int), down, 1), across, 2)

    pair = [coarse(a) for a in (np.rot90(plain, -1, (1, 2)), part)]
    rows, columns = (min(c.shape[i] for c in pair) - 1 for i in (1, 2))
    a, b = (c[:, :rows, :columns].ravel() for c in pair)
    assert np.corrcoef(a, b)[0, 1] > 0.95, "the same picture, a quarter turned clockwise"


def test_a_killed_preparing_goes_on_with_the_pieces_that_are_there(
    run: Run, user: User, django_capture_on_commit_callbacks, monkeypatch: pytest.MonkeyPatch
) -> None:
    real, calls = run_preparing.print_job, []

    def counted(job, mode, choices, path, *args):  # type: ignore[no-untyped-def]
        calls.append(Path(path).name)
        return real(job, mode, choices, path, *args)

    def killed(*args, **kwargs):  # type: ignore[no-untyped-def]
        raise KeyboardInterrupt

    monkeypatch.setattr(run_preparing, "print_job", counted)
    monkeypatch.setattr(run_preparing, "compose", killed)
    with acting(user), django_capture_on_commit_callbacks(execute=False):
        record = run_preparing.order_run(run, user)
    with pytest.raises(KeyboardInterrupt):
        run_preparing.prepare_run(record.pk)
    assert len(calls) == 2 and not Print.objects.exists()
    monkeypatch.undo()
    monkeypatch.setattr(run_preparing, "print_job", counted)
    run_preparing.prepare_run(record.pk)
    record.refresh_from_db()
    assert record.state == "done" and len(calls) == 2, "no piece was prepared again"
    assert Print.objects.count() == 1


def test_the_strip_of_a_run_is_read_and_its_check_hangs_on_the_print(
    client: Client, run: Run, user: User, aim: AimRecord, machine: Running, django_capture_on_commit_callbacks
) -> None:
    run.mode.curves = CurveSet.straight({c: v / 100.0 for c, v in run.mode.limits.items()}).to_csv()
    run.mode.save()
    with acting(user):
        strip = {
            "kind": "short",
            "method": "strip",
            "tolerances": "iso12647-7:2016",
            "aim": aim.pk,
            "corrected": True,
        }
        run = runs.change(run, {"strip": strip, "goes": True}, run.version)
        assert run_pieces.drawn(run).strip is not None
    prepared(run, user, django_capture_on_commit_callbacks)
    record = Print.objects.get()
    assert record.state == "ready", "it goes by itself"
    finished(record)
    assert record.state == "done" and record.check_print is not None
    page = words(client, f"/prints/{record.pk}/")
    assert "The strip of this print waits to be read" in page
    sheet = record.check_print.sheet_print
    sheet.printed_at = timezone.now() - timezone.timedelta(days=1)
    sheet.save()
    with acting(user):
        current = reading.start_pass(sheet, user)
        reading.calibrate_white(current.pk)
        rows = sorted(set(sheet.chart.patches.rows.tolist()))
        for row in rows:
            assert reading.read_row(current.pk, row).kept
    record.refresh_from_db()
    check = record.check_print.made_check
    assert check is not None and check.mode == run.mode
    page = words(client, f"/prints/{record.pk}/")
    assert check.summary[:30] in page
    run.mode.refresh_from_db()
    assert run.mode.last_verdict == check.verdict, "a mode whose prints fail is shown as failing"
    assert f"{check.verdict}" in words(client, f"/prints/?verdict={check.verdict}")
    assert "0 prints" in words(client, f"/prints/?verdict={'pass' if check.verdict == 'fail' else 'fail'}")
    again = prints.again(record, user)
    finished(again if again.state != "held" else _gone(again, user))
    assert again.check_print_id not in (None, record.check_print_id), "each print has a strip of its own"


def _gone(record: Print, user: User) -> Print:
    with acting(user):
        prints.go(record)
    record.refresh_from_db()
    return record


def test_a_print_that_breaks_off_is_gone_on_with_where_it_stopped(
    client: Client, two: list[Job], user: User, machine: Running, django_capture_on_commit_callbacks
) -> None:
    with acting(user):
        run = runs.make(two, user)
        run = runs.change(
            run, {"copies": {two[0].pk: 6}, "rules": {"cut": "each", "line": False}}, run.version
        )
    machine.server.machine.set("clock", 4.0)
    prepared(run, user, django_capture_on_commit_callbacks)
    record = _gone(Print.objects.get(), user)

    def half() -> bool:
        prints.sweep()
        record.refresh_from_db()
        return record.share > 0.3

    until(half)
    with acting(user):
        prints.cancel(record)
    finished(record)
    assert record.state == "cancelled" and 0.3 < record.share < 1.0
    laid = run_pieces.drawn(run)
    whole = [p for p in laid.pieces if p.y + p.height <= record.share * laid.length]
    answer = client.post(f"/prints/{record.pk}/rest/", follow=True)
    rest = Run.objects.latest("pk")
    assert answer.redirect_chain[-1][0] == f"/runs/{rest.pk}/" and rest.name.startswith("Rest of ")
    assert len(rest.places) == len(laid.pieces) - len(whole)


def test_one_panel_of_a_banner_is_printed_again(
    client: Client, two: list[Job], user: User, machine: Running, django_capture_on_commit_callbacks
) -> None:
    banner = two[0]
    with acting(user):
        jobs.change(banner, {"width_mm": 90.0, "panels": 3, "overlap_mm": 5.0}, banner.version)
        run = runs.make([banner], user)
    assert sorted(p["id"] for p in run.places) == [f"{banner.pk}.{n}" for n in (1, 2, 3)]
    prepared(run, user, django_capture_on_commit_callbacks)
    record = finished(_gone(Print.objects.get(), user))
    page = words(client, f"/prints/{record.pk}/")
    assert "Panel 2 again" in page
    client.post(f"/prints/{record.pk}/rest/", {"job": banner.pk, "panel": 2})
    again = Run.objects.latest("pk")
    assert [p["id"] for p in again.places] == [f"{banner.pk}.2"] and "panel 2 again" in again.name
    prepared(again, user, django_capture_on_commit_callbacks)


def test_a_run_waits_until_it_is_full_and_goes_by_itself(
    run: Run, user: User, django_capture_on_commit_callbacks
) -> None:
    with acting(user):
        with pytest.raises(BadInput, match="say what the run waits for"):
            runs.wait_to_fill(run, run.version)
        run = runs.change(run, {"fill": {"share": 0.5}}, run.version)
        run = runs.wait_to_fill(run, run.version)
    assert runs.fill_sweep() == 0 and run.state == "filling"
    with acting(user):
        first = run.parts.first()
        wide = int(0.6 * run.width_mm / 35.0)
        run = runs.change(run, {"copies": {first.job_id: wide}}, run.version)
    with django_capture_on_commit_callbacks(execute=True):
        assert runs.fill_sweep() == 1
        assert runs.fill_sweep() == 0, "once"
    run.refresh_from_db()
    assert run.state == "closed" and "50 % of the width are used" in run.note
    assert PrintFile.objects.get(run=run).state == "done"


def test_a_run_that_waited_long_enough_goes(run: Run, user: User, django_capture_on_commit_callbacks) -> None:
    with acting(user):
        run = runs.change(run, {"fill": {"minutes": 30}}, run.version)
        run = runs.wait_to_fill(run, run.version)
    assert runs.fill_sweep() == 0
    Run.objects.filter(pk=run.pk).update(fills_since=timezone.now() - timezone.timedelta(minutes=31))
    with django_capture_on_commit_callbacks(execute=True):
        assert runs.fill_sweep() == 1


def test_settings_for_one_run_go_with_it_and_change_no_mode(
    run: Run, user: User, mode: PrintMode, django_capture_on_commit_callbacks
) -> None:
    mode.printer.abilities = {"pass_pause": {"low": 0, "high": 5, "step": 0.1, "usual": 0.2}}
    mode.printer.save()
    run.refresh_from_db()
    with acting(user):
        with pytest.raises(BadInput, match="Dry time between passes of 9 s lies outside 0..5"):
            runs.change(run, {"after": {"pass_pause": 9.0}}, run.version)
        run = runs.change(run, {"after": {"pass_pause": 1.5, "cut_off": True}}, run.version)
    record = prepared(run, user, django_capture_on_commit_callbacks)
    assert record.ticket["settings"]["handling"]["pass_pause"] == 1.5
    assert record.ticket["after"]["cut_off"] is True
    mode.refresh_from_db()
    assert "pass_pause" not in mode.handling


def contoured() -> bytes:
    """A PDF of 60 x 40 mm with a round contour of 30 mm in a spot colour."""
    from reportlab.lib.colors import CMYKColorSep

    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(60 * 72 / 25.4, 40 * 72 / 25.4))
    canvas.setFillColorCMYK(0.2, 0.6, 0.1, 0)
    canvas.rect(10, 10, 80, 60, stroke=0, fill=1)
    canvas.setStrokeColor(CMYKColorSep(0, 1, 0, 0, spotName="CutContour"))
    canvas.circle(30 * 72 / 25.4, 20 * 72 / 25.4, 15 * 72 / 25.4)
    canvas.save()
    return out.getvalue()


def test_contours_are_cut_where_the_pieces_lie(
    client: Client, machine: Running, mode: PrintMode, user: User, django_capture_on_commit_callbacks
) -> None:
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        art, _ = intake.add(ContentFile(contoured()), "round sticker.pdf", user)
    art.refresh_from_db()
    with acting(user):
        job = jobs.make_job(art, user, mode)
        run = runs.make([job], user)
        run = runs.change(
            run, {"copies": {job.pk: 4}, "cutting": {"what": "later", "bleed": 0.5, "weed": 3.0}}, run.version
        )
    assert run.laid_by.cutter, "marks that are found again after laminating"
    paths = run_cutting.paths_of(run)
    assert sorted(p.kind for p in paths) == ["cut"] * 4 + ["weed"] * 4
    for piece in run_pieces.drawn(run).pieces:
        near = min(
            (p for p in paths if p.kind == "cut"),
            key=lambda p: np.hypot(*(p.points.mean(axis=0) - (piece.x, piece.y))),
        )
        middle = (near.points.min(axis=0) + near.points.max(axis=0)) / 2
        assert middle == pytest.approx((piece.x + piece.width / 2, piece.y + piece.height / 2), abs=0.1)
        assert np.ptp(near.points, axis=0) == pytest.approx((29.0, 29.0), abs=0.05), "half a mm inside"
    data = client.get(f"/runs/{run.pk}/cut.dxf")
    lines = ezdxf.read(io.StringIO(data.content.decode())).modelspace().query("LWPOLYLINE")
    assert len(lines) == 8 and data["Content-Type"] == "image/vnd.dxf"
    assert client.get(f"/runs/{run.pk}/cut.plt").content.startswith(b"IN;SP1;")
    assert b'id="marks"' in client.get(f"/runs/{run.pk}/cut.svg").content
    assert "8 cut paths" in words(client, f"/runs/{run.pk}/")


def test_the_ledger_knows_rolls_editions_and_sums(
    client: Client, run: Run, user: User, machine: Running, django_capture_on_commit_callbacks
) -> None:
    record = prepared(run, user, django_capture_on_commit_callbacks)
    done = finished(_gone(Print.objects.get(), user))
    roll = MediaRoll.objects.get()
    assert done.roll == roll and roll.left_mm == pytest.approx(30_000 - done.media_mm, abs=1.0)
    machine.server.machine.set("media", "Another paper 120")
    from greyanchor.printroom.rolls import roll_in

    other = roll_in(done.printer, prints.machine_of(done.printer))
    assert other is not None and other.pk != roll.pk
    machine.server.machine.set("media", run.mode.media.name)
    machine.server.machine.set("length_mm", roll.left_mm)
    assert roll_in(done.printer, prints.machine_of(done.printer)) == roll, "the roll that was in it earlier"
    assert MediaRoll.objects.filter(is_in=True).get() == roll
    one = words(client, f"/prints/?roll={roll.pk}")
    assert "1 print" in one and str(roll) in one
    assert "1 print" in words(client, f"/prints/?artwork={run.parts.first().job.artwork_id}")
    assert "1 print" in words(client, f"/prints/?job={run.parts.last().job_id}&q=sticker")
    if record.edition_id:
        assert "1 print" in words(client, f"/prints/?profile={record.edition.profile_id}")
    for by in ("week", "mode", "machine", "job", "media", "person"):
        used = words(client, f"/prints/used/?by={by}")
        assert f"{done.ink_total_ml:.1f}" in used, by
    lines = b"".join(client.get("/prints/prints.csv").streaming_content).decode().splitlines()
    assert len(lines) == 2 and f"{done.ink_total_ml:.3f}" in lines[1] and run.mode.name in lines[1]
    sums = b"".join(client.get("/prints/used/?by=machine&as=csv").streaming_content).decode().splitlines()
    assert sums[0] == "machine,prints,ink ml,media m" and sums[1].startswith(f"{done.printer.name},1,")


def test_a_job_that_changed_since_is_laid_again_before_it_is_prepared(
    client: Client, run: Run, user: User, django_capture_on_commit_callbacks
) -> None:
    job = run.parts.first().job
    with acting(user):
        jobs.change(job, {"width_mm": 44.0}, job.version)
    assert run_pieces.is_stale(run)
    assert "A job has another size by now" in words(client, f"/runs/{run.pk}/")
    prepared(run, user, django_capture_on_commit_callbacks)
    run.refresh_from_db()
    assert {p["width"] for p in run.places if p["id"] == str(job.pk)} == {44.0}
