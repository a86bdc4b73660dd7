"""Jobs: judged on modes, changed and changed back, prepared, gone on with."""

from __future__ import annotations

import io
from urllib.parse import parse_qs, urlsplit

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client
from PIL import Image, ImageCms

from greyanchor.accounts.roles import acting
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.library.models import PrintMode
from greyanchor.printroom import choices, files, jobs, nudges, outcomes, preparing, rasters
from greyanchor.printroom.links import link_of, order_of
from greyanchor.printroom.models import Artwork, Job, PrintFile
from greyanchor.profiles.models import AimRecord


@pytest.fixture
def job(artwork: Artwork, mode: PrintMode, user: User) -> Job:
    with acting(user):
        return jobs.make_job(artwork, user, mode)


def test_a_job_says_what_will_come_out(job: Job, mode: PrintMode) -> None:
    found = outcomes.outcome(job, mode)
    facts = found.facts
    assert facts["area_within_3"] + facts["area_beyond_3"] == pytest.approx(1.0, abs=1e-3)
    assert 0.3 < facts["area_within_3"] < 1.0, "some of these colours no print has"
    assert facts["worst"] and facts["worst"][0]["difference"] >= facts["worst"][-1]["difference"]
    assert found.minutes > 0 and set(found.ink_ml) == set("CMYK")


def test_a_larger_job_takes_more_ink_and_time_and_the_same_colours(
    job: Job, mode: PrintMode, user: User
) -> None:
    small = outcomes.outcome(job, mode)
    with acting(user):
        job = jobs.change(job, {"width_mm": 200.0}, job.version)
    large = outcomes.outcome(job, mode)
    assert large.total_ml == pytest.approx(small.total_ml * (200.0 / 48.768) ** 2, rel=0.02)
    assert large.minutes > 2 * small.minutes
    assert large.facts["area_within_3"] == pytest.approx(small.facts["area_within_3"], abs=0.01)


def test_modes_are_ranked_with_reasons_and_kept(job: Job, mode: PrintMode) -> None:
    copy = PrintMode.objects.get(pk=mode.pk)
    copy.pk, copy.name, copy.total_ink = None, "Harbour Proof, thrifty", 180.0
    copy.environment = {**copy.environment, "passes": 4}
    copy._state.adding = True
    copy.save()
    found = outcomes.ranked(job, outcomes.candidates(job))
    assert found[0].mode.name == "Harbour Proof"
    reasons = {f.mode.name: f.reasons for f in found}
    assert (
        "quickest" in reasons["Harbour Proof, thrifty"]
        and "most of the area within 3" in reasons["Harbour Proof"]
    )
    job.refresh_from_db()
    assert set(job.outcomes) == {str(mode.pk), str(copy.pk)}


def test_changes_can_be_undone_and_redone(job: Job, user: User) -> None:
    with acting(user):
        job = jobs.change(job, {"width_mm": 120.0, "keep_black": True}, job.version)
        job = jobs.change(job, {"quarters": 1}, job.version)
        assert job.choices == {"width_mm": 120.0, "keep_black": True, "quarters": 1}
        job = jobs.undo(job, job.version)
        job = jobs.undo(job, job.version)
        assert job.choices == {}
        with pytest.raises(BadInput, match="nothing was changed"):
            jobs.undo(job, job.version)
        job = jobs.redo(job, job.version)
        assert job.choices == {"width_mm": 120.0, "keep_black": True}


def test_two_people_do_not_overwrite_one_another(job: Job, user: User) -> None:
    with acting(user):
        jobs.change(job, {"copies": 2}, job.version)
        with pytest.raises(BadInput, match="somebody else changed this job"):
            jobs.change(job, {"copies": 3}, job.version)
    job.refresh_from_db()
    assert job.choices == {"copies": 2}


@pytest.mark.parametrize(
    "values",
    [{"copies": 0}, {"panels": 99}, {"intent": "vivid"}, {"lightness": 80}, {"width_mm": -4}, {"colour": 1}],
)
def test_choices_that_cannot_be_are_refused(job: Job, user: User, values: dict) -> None:
    with acting(user), pytest.raises(BadInput):
        jobs.change(job, values, job.version)


def test_a_job_takes_nothing_from_the_job_before_it(
    job: Job, artwork: Artwork, mode: PrintMode, user: User
) -> None:
    with acting(user):
        jobs.change(job, {"lightness": 6.0, "width_mm": 300.0}, job.version)
        assert jobs.make_job(artwork, user, mode).choices == {}


def prepare(job: Job, user: User, callbacks) -> list[PrintFile]:
    with callbacks(execute=True), acting(user):
        preparing.order_print_files(job, user)
    return list(job.print_files.order_by("panel"))


def test_a_job_is_prepared_with_its_ticket_and_a_picture_of_the_print(
    job: Job, mode: PrintMode, user: User, client: Client, django_capture_on_commit_callbacks
) -> None:
    [record] = prepare(job, user, django_capture_on_commit_callbacks)
    assert record.state == "done", record.message
    with Image.open(files.local(record.file)) as tiff:
        assert tiff.n_frames == 4 and tiff.mode == "1"
        assert str(mode.name) in tiff.tag_v2[270] and job.artwork.sha256 in tiff.tag_v2[270]
    shown = np.array(Image.open(files.local(record.picture))).astype(float)
    answer = client.get(f"/print-files/{record.pk}/art.png")
    asked = np.array(Image.open(io.BytesIO(b"".join(answer)))).astype(float)
    assert shown.shape == asked.shape
    assert np.abs(shown - asked).mean() < 40, "the print looks like the artwork"
    page = client.get(f"/print-files/{record.pk}/").content.decode()
    assert "Save the planes, TIFF" in page and "of the area" in page
    sent = client.get(f"/print-files/{record.pk}/planes.tif")
    assert b"".join(sent.streaming_content)[:4] == b"II*\0"


def test_panels_are_print_files_of_their_own(
    job: Job, user: User, django_capture_on_commit_callbacks
) -> None:
    with acting(user):
        job = jobs.change(job, {"panels": 3, "overlap_mm": 2.0, "panels_off": [2]}, job.version)
    made = prepare(job, user, django_capture_on_commit_callbacks)
    assert [r.panel for r in made] == [1, 3]
    widths = [r.facts["width"] for r in made]
    dots = 1200 / 25.4
    assert widths[0] / dots == pytest.approx((48.768 + 4.0) / 3, abs=0.05)


def test_a_killed_preparing_goes_on(
    job: Job, user: User, monkeypatch, django_capture_on_commit_callbacks
) -> None:
    from greyanchor.background import work

    real, calls = work.progress_of, []

    def dying(model, pk):
        report = real(model, pk)

        def say(share: float, text: str) -> None:
            report(share, text)
            calls.append(share)
            if len(calls) == 1:
                raise work.Cancelled

        return say

    with acting(user):
        job = jobs.change(job, {"width_mm": 180.0}, job.version)
    monkeypatch.setattr("greyanchor.printroom.preparing.work.progress_of", dying)
    [record] = prepare(job, user, django_capture_on_commit_callbacks)
    assert record.state == "cancelled"
    monkeypatch.setattr("greyanchor.printroom.preparing.work.progress_of", real)
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        preparing.go_on(record)
    record.refresh_from_db()
    assert record.state == "done"
    whole = record.facts["width"] * record.facts["height"]
    did = record.facts["megapixels_per_second"] * record.facts["seconds"] * 1e6
    assert did < 0.9 * whole, "what was written was not written again"


def test_a_print_file_is_of_one_edition(job: Job, mode: PrintMode, user: User, monkeypatch) -> None:
    with acting(user):
        monkeypatch.setattr("greyanchor.background.queue.start", lambda record: None)
        [record] = preparing.order_print_files(job, user)
        with pytest.raises(BadInput, match="being prepared already"):
            preparing.order_print_files(job, user)
    monkeypatch.setattr("greyanchor.printroom.tickets.edition_of", lambda mode: 7)
    with pytest.raises(BadInput, match="has another edition by now"):
        preparing.prepare_print_file(record.pk)


def test_only_released_modes_are_printed_through(job: Job, mode: PrintMode, user: User) -> None:
    PrintMode.objects.update(state="retired")
    job.refresh_from_db()
    with acting(user), pytest.raises(BadInput, match="jobs are printed through released modes"):
        preparing.order_print_files(Job.objects.select_related("mode").get(pk=job.pk), user)


def test_the_light_table_and_its_pictures(job: Job, client: Client) -> None:
    page = client.get(f"/jobs/{job.pk}/").content.decode()
    for text in (
        "What will come out?",
        "How large?",
        "Which colour?",
        "How good, how fast?",
        "Prepare on Harbour",
    ):
        assert text in page
    pictures = {}
    for kind in ("art", "print", "difference", "ink", "plane", "contours"):
        answer = client.get(f"/jobs/{job.pk}/tile/{kind}/0/0/0.png?ink=K")
        assert answer.status_code == 200
        pictures[kind] = np.array(Image.open(io.BytesIO(answer.content)))
    assert pictures["print"].shape == (96, 192, 3)
    assert not np.array_equal(pictures["art"], pictures["difference"])
    assert (pictures["ink"][..., 0] == pictures["ink"][..., 2]).all(), "ink in all is grey"
    loupe = np.array(Image.open(io.BytesIO(client.get(f"/jobs/{job.pk}/loupe.png?x=0.4&y=0.6").content)))
    assert loupe.shape == (472, 472, 3) and len(np.unique(loupe.reshape(-1, 3), axis=0)) <= 16
    near = client.get(f"/jobs/{job.pk}/colour/?x=0.4&y=0.6")
    assert near.url.startswith("/colours/spots/?q=") and f"mode={job.mode_id}" in near.url
    lab = [float(v) for v in parse_qs(urlsplit(near.url).query)["q"][0].split()]
    assert 0 <= lab[0] <= 100 and len(lab) == 3
    assert client.get(f"/jobs/{job.pk}/tile/art/0/99/99.png").status_code == 404
    assert client.get(f"/jobs/{job.pk}/tile/xray/0/0/0.png").status_code == 404
    outcome = client.get(f"/jobs/{job.pk}/outcome/").content.decode()
    assert "within 1 dE00" in outcome and "data-foot" in outcome
    assert "Harbour Proof" in client.get(f"/jobs/{job.pk}/modes/").content.decode()


def test_the_loupe_shows_the_dots_that_are_printed(
    job: Job, user: User, client: Client, django_capture_on_commit_callbacks
) -> None:
    """The same place of the print file, but for rounding at the edges of its source."""
    [record] = prepare(job, user, django_capture_on_commit_callbacks)
    with Image.open(files.local(record.file)) as tiff:
        tiff.seek(3)
        black = np.array(tiff.convert("L")) < 128
    rows, columns = black.shape
    loupe = np.array(Image.open(io.BytesIO(client.get(f"/jobs/{job.pk}/loupe.png?x=0.5&y=0.5").content)))
    side = loupe.shape[0]
    left, top = round(0.5 * columns - side / 2), round(0.5 * rows - side / 2)
    asked = black[top : top + side, left : left + side]
    dark = loupe.sum(axis=2) < 200
    assert (asked & ~dark).mean() < 0.02 and (dark & ~asked).mean() < 0.25


def test_a_test_piece_is_a_job_at_true_size(job: Job, user: User, client: Client) -> None:
    sent = {
        "version": job.version,
        "left": "0,25",
        "top": "0.25",
        "wide": "0.5",
        "tall": "0.5",
        "as": "piece",
    }
    client.post(f"/jobs/{job.pk}/piece/", sent)
    piece = Job.objects.get(piece_of=job)
    assert outcomes.printed_mm(piece) == (pytest.approx(24.38, abs=0.01), pytest.approx(12.19, abs=0.01))
    assert piece.choices["crop"] == [0.25, 0.25, 0.5, 0.5]
    client.post(f"/jobs/{job.pk}/piece/", {**sent, "as": "crop"})
    job.refresh_from_db()
    assert job.choices["crop"] == [0.25, 0.25, 0.5, 0.5] and len(job.undo) == 1


def test_a_form_changes_what_it_holds_and_no_more(job: Job, client: Client) -> None:
    sent = {"version": job.version, "intent": "perceptual", "has_keep_black": "1", "keep_black": "on",
            "lightness": "2,5", "contrast": "", "has_inks": "1", "ink_C": "-3", "ink_M": "0"}  # fmt: skip
    client.post(f"/jobs/{job.pk}/change/", sent)
    job.refresh_from_db()
    assert job.choices == {"intent": "perceptual", "keep_black": True, "lightness": 2.5, "inks": {"C": -0.03}}
    answer = client.post(f"/jobs/{job.pk}/change/", {"version": job.version, "width_mm": "wide"}, follow=True)
    assert "is not a number" in answer.content.decode()


def test_narrowing_jobs(job: Job, client: Client) -> None:
    assert "lit balls" in client.get("/jobs/?q=balls harbour").content.decode()
    assert "No job is like that" in client.get("/jobs/?q=nothing").content.decode()


def test_sizes_and_minutes_are_of_what_lies_on_the_media(job: Job, mode: PrintMode) -> None:
    turned = replace_choices(job, quarters=1)
    assert outcomes.printed_mm(turned) == tuple(reversed(outcomes.printed_mm(job)))
    wide, narrow = outcomes.minutes_of(mode, 1000.0, 500.0), outcomes.minutes_of(mode, 100.0, 500.0)
    assert wide > 1.5 * narrow


def replace_choices(job: Job, **choices: object) -> Job:
    copy = Job.objects.get(pk=job.pk)
    copy.choices = {**copy.choices, **choices}
    return copy


def test_artwork_is_judged_on_every_mode_before_there_is_a_job(
    artwork: Artwork, mode: PrintMode, client: Client
) -> None:
    page = client.get(f"/artwork/{artwork.pk}/modes/?width=100").content.decode()
    assert "Harbour Proof" in page and "Make a job" in page and not Job.objects.exists()
    assert "is not a number" in client.get(f"/artwork/{artwork.pk}/modes/?width=wide").content.decode()
    client.post(f"/artwork/{artwork.pk}/job/", {"mode": mode.pk})
    assert Job.objects.get().mode == mode


def test_nudges_that_repeat_are_said_on_the_mode_s_page(
    client: Client, artwork: Artwork, mode: PrintMode, user: User
) -> None:
    with acting(user):
        for lightness, ink in ((4.0, 0.05), (6.0, 0.03), (0.0, 0.04), (5.0, 0.0), (-2.0, 0.02)):
            jobs.make_job(
                artwork, user, mode, choices={"lightness": lightness, "inks": {"C": ink} if ink else {}}
            )
    found = {r.words: r for r in nudges.repeated(mode)}
    assert set(found) == {"made lighter", "given more C"}
    assert (found["made lighter"].jobs, found["made lighter"].of, found["made lighter"].mean) == (3, 5, 5.0)
    assert found["given more C"].mean == pytest.approx(3.5)
    page = " ".join(client.get(f"/modes/{mode.pk}/nudges/").content.decode().split())
    assert "3 of its last 5 jobs were made lighter" in page and "A restore finds out" in page
    assert f"/modes/{mode.pk}/nudges/" in client.get(f"/modes/{mode.pk}/").content.decode()
    with acting(user):
        for _ in range(4):
            jobs.make_job(artwork, user, mode)
    assert nudges.repeated(mode) == [], "most of the newest were printed as they are"


def test_untagged_colours_are_taken_for_what_the_job_says(
    client: Client, artwork: Artwork, mode: PrintMode, user: User, built: ProfileResult
) -> None:
    matrix = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    kept = [
        AimRecord.objects.create(name=name, kind="profile", source="a test", data=data)
        for name, data in (("A screen", matrix), ("A press", built.data))
    ]
    with acting(user):
        job = jobs.make_job(artwork, user, mode)
    page = client.get(f"/jobs/{job.pk}/").content.decode()
    offered = page[page.index('id="job-source"') :].partition("</select>")[0]
    assert "A screen" in offered and "A press" not in offered, "the picture is R G B"
    client.post(f"/jobs/{job.pk}/change/", {"version": job.version, "source": str(kept[0].pk)})
    job.refresh_from_db()
    assert job.choices == {"source": kept[0].pk}
    order = order_of(job, mode, choices.of_job(job))
    assert order.source is not None and order.source.tags == icc.loads(matrix).tags
    link = link_of(rasters.level(artwork, 1, 0), job, mode, choices.of_job(job))
    assert link.source.profile.tags == order.source.tags, "what is printed goes through it"
    assert client.get(f"/jobs/{job.pk}/tile/print/0/0/0.png").status_code == 200


def test_a_print_file_of_an_earlier_version_is_still_shown(client: Client, job: Job) -> None:
    """It knows fewer choices than jobs have today."""
    old = {k: v for k, v in choices.USUAL.items() if k not in ("source", "picture_intent")}
    record = PrintFile.objects.create(
        job=job, mode=job.mode, state="done", choices=old, ticket={"edition": 0}
    )
    answer = client.get(f"/print-files/{record.pk}/art.png")
    assert answer.status_code == 200 and answer["Content-Type"] == "image/png"
