"""Profiles in the application: from files, from one another, looked at, refined."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from functools import lru_cache

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.builds.maintenance import refinements
from greyanchor.builds.models import Build, Refinement
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.profiling.build import ProfileResult, build_profile
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.demo.devices import drift as let_drift
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import PrintMode
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import averaged, keep_whole_pass
from greyanchor.profiles import queries
from greyanchor.profiles.models import Profile, ProfileWork, ProposedPatches, RoomLight
from greyanchor.profiles.services import keep_attached, keep_profile, propose
from greyanchor.profiles.settings import settings_from
from tests.web.builds.conftest import finish

pytestmark = pytest.mark.django_db
OPTIONS = {
    "total_ink": 300.0,
    "black_start": 25.0,
    "black_strength": 50.0,
    "max_black": 100.0,
    "width": 100.0,
    "quality": "draft",
    "version": 4,
    "title": "Quay draft",
}
KIND = {"title": "Another", "light": "D50", "source": "srgb", "version": "4", "quality": "draft"}
SEPARATION = {
    "black_start": "10",
    "black_strength": "90",
    "max_black": "100",
    "width": "150",
    "total_ink": "280",
    **{f"limit_{c}": "100" for c in "CMYK"},
}


@lru_cache(maxsize=4)
def readings_text(printer: str, letters: str, count: int) -> str:
    channels, press = tuple(letters), press_by_name(printer)
    chart, _ = lay_out(patches.design("profile", channels, count), channels, shuffle_seed=3)
    scale = 1.0 if press.driven else 0.75
    return cgats.dumps(print_and_read(chart, press, 5, pipeline=lambda v: press.as_raw(scale * v, channels)))


@lru_cache(maxsize=1)
def _draft() -> ProfileResult:
    readings = cgats.loads(readings_text("petrel-44", "CMYK", 320).encode())
    return build_profile(readings, settings_from(OPTIONS, "Quay draft"))


@pytest.fixture
def profile(user: User) -> Profile:
    return keep_profile(_draft(), "Quay draft", 4, OPTIONS, {"environment": "e" * 64}, user)


@pytest.fixture
def mode(up_to: Callable[[str], Build], user: User) -> PrintMode:
    """A released mode whose profile is of a small chart."""
    build = up_to("profile")
    chart = build.stages.get(kind="profile-chart")
    result = build_profile(averaged(chart.sheet_print), settings_from(OPTIONS, "Small"))
    made = finish(build, user)
    made.profile = keep_profile(result, "Small", 4, OPTIONS, {"environment": build.environment_hash}, user)
    made.save()
    return made


def sent(text: str, name: str = "readings.txt") -> SimpleUploadedFile:
    return SimpleUploadedFile(name, text.encode())


# --- from files --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("printer", "letters", "count", "space"),
    [("dunlin-24", "RGB", 200, "RGB"), ("petrel-44", "K", 64, "GRAY")],
)
def test_a_profile_of_any_channels_is_built_from_files(
    client: Client,
    django_capture_on_commit_callbacks: object,
    printer: str,
    letters: str,
    count: int,
    space: str,
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        response = client.post(
            "/profiles/new/",
            {
                **KIND,
                "title": f"{letters} here",
                "preset": "even",
                "files": [sent(readings_text(printer, letters, count))],
            },
        )
    job = ProfileWork.objects.get()
    assert response.status_code == 302 and job.state == "done", job.message
    made = job.result
    assert made.channels == list(letters) and icc.loads(bytes(made.data)).space == space
    for page in ("", "gamut/", "errors/", "proof/", "separation/"):
        assert client.get(f"/profiles/{made.pk}/{page}").status_code == 200, page
    assert client.get(f"/profiles/making/{job.pk}/").url == f"/profiles/{made.pk}/"
    found = "does its own separation" in client.get(f"/profiles/{made.pk}/separation/").content.decode()
    assert found == (letters == "RGB")


def test_two_passes_are_compared_averaged_and_their_noise_is_learned(
    client: Client, django_capture_on_commit_callbacks: object
) -> None:
    first = cgats.loads(readings_text("petrel-44", "K", 64).encode())
    lab = first.lab() + np.random.default_rng(3).normal(0.0, 0.2, (64, 3))
    from dataclasses import replace

    second = cgats.dumps(replace(first, spectra=None, measured_lab=lab))
    with django_capture_on_commit_callbacks(execute=True):
        response = client.post(
            "/profiles/new/",
            {**KIND, "preset": "even", "files": [sent(cgats.dumps(first)), sent(second, "again.txt")]},
            follow=True,
        )
    job = ProfileWork.objects.get()
    assert job.state == "done" and 0.05 < job.settings["noise"] < 0.2
    assert "2 passes; the first two differ by" in response.content.decode()


@pytest.mark.parametrize(
    ("text", "words"),
    [("this is no file of readings\n", "readings.txt"), ("", "empty"), (None, "choose at least one file")],
)
def test_files_that_are_no_readings_are_refused_and_nothing_is_kept(
    client: Client, text: str | None, words: str
) -> None:
    files = {} if text is None else {"files": [sent(text)]}
    response = client.post("/profiles/new/", {**KIND, "preset": "even", **files})
    assert response.status_code == 400 and words in response.content.decode()
    assert not ProfileWork.objects.exists()


def test_readings_that_carry_no_profile_end_the_work_with_the_reason(
    client: Client, django_capture_on_commit_callbacks: object
) -> None:
    text = readings_text("petrel-44", "K", 64)
    readings = cgats.loads(text.encode())
    bare = cgats.dumps(readings.select(readings.values()[:, 0] > 0.02))
    with django_capture_on_commit_callbacks(execute=True):
        client.post("/profiles/new/", {**KIND, "preset": "even", "files": [sent(bare)]})
    job = ProfileWork.objects.get()
    assert job.state == "failed" and "no unprinted patch" in job.message
    page = client.get(f"/profiles/making/{job.pk}/").content.decode()
    assert "no unprinted patch" in page and "Give the readings again" in page


def test_files_too_large_or_too_many_are_refused(client: Client, settings: object) -> None:
    settings.UPLOAD_LIMIT = 1000
    large = client.post("/profiles/new/", {**KIND, "preset": "even", "files": [sent("x" * 2000)]})
    assert large.status_code == 400 and "files up to" in large.content.decode()
    many = client.post("/profiles/new/", {**KIND, "preset": "even", "files": [sent("x") for _ in range(9)]})
    assert many.status_code == 400 and "up to 8 passes" in many.content.decode()


# --- separation --------------------------------------------------------------------------------


def test_the_preview_follows_the_controls(client: Client, profile: Profile) -> None:
    def ink(**change: str) -> float:
        page = client.get(
            f"/profiles/{profile.pk}/separation/preview/", {**SEPARATION, **change}
        ).content.decode()
        row = re.search(r"Ink on the neutral axis, mean</td><td class=\"num\">([\d.]+)</td>", page)
        assert row, page[:300]
        return float(row[1])

    assert ink(black_start="60", black_strength="10") > 1.15 * ink(black_start="0", black_strength="100")
    assert ink(max_black="10") > ink()


def test_the_preview_says_what_cannot_be_done(client: Client, profile: Profile) -> None:
    page = client.get(
        f"/profiles/{profile.pk}/separation/preview/", {**SEPARATION, "total_ink": "900"}
    ).content.decode()
    assert "Total ink" in page and "alert" in page


def test_a_separation_is_laid_beside_an_older_one(client: Client, profile: Profile, user: User) -> None:
    older = keep_profile(_draft(), "Last year", 4, {**OPTIONS, "black_start": 70.0}, {}, user)
    page = client.get(
        f"/profiles/{profile.pk}/separation/preview/", {**SEPARATION, "other": older.pk}
    ).content.decode()
    assert "Last year" in page and 'stroke-dasharray="2 3"' in page


def test_a_preset_moves_the_controls(client: Client, profile: Profile) -> None:
    page = client.get(f"/profiles/{profile.pk}/separation/?preset=thrift").content.decode()
    assert re.search(r'name="black_strength" value="90.0"', page)
    assert client.get(f"/profiles/{profile.pk}/separation/?preset=nothing").status_code == 409


def test_another_separation_becomes_a_profile_of_the_same_readings(
    client: Client, profile: Profile, django_capture_on_commit_callbacks: object
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        client.post(f"/profiles/{profile.pk}/separation/", {**SEPARATION, "limit_C": "80", **KIND})
    job = ProfileWork.objects.get()
    assert job.state == "done", job.message
    made = job.result
    assert made.derived_from == profile and made.settings["limits"] == {"C": 80.0}
    parsed = icc.loads(bytes(made.data))
    lab = np.random.default_rng(1).uniform([0, -80, -80], [100, 80, 80], (4000, 3))
    inks = parsed.lab_to_device(lab)
    assert inks[:, 0].max() < 0.81 and inks.sum(axis=1).max() < 2.83
    assert "Quay draft" in client.get(f"/profiles/{made.pk}/").content.decode()


def test_a_separation_found_by_looking_is_built_in_the_log(
    client: Client, up_to: Callable[[str], Build], user: User, django_capture_on_commit_callbacks: object
) -> None:
    build = up_to("profile")
    stage = build.stages.get(kind="profile")
    readings = averaged(build.stages.get(kind="profile-chart").sheet_print)
    result = build_profile(readings, settings_from(OPTIONS, "In the log"))
    stage.profile = keep_profile(
        result, "In the log", 4, OPTIONS, {"environment": build.environment_hash}, user
    )
    stage.save()
    page = client.get(f"/profiles/{stage.profile.pk}/separation/").content.decode()
    assert f'formaction="/builds/{build.pk}/profile/start/"' in page
    with django_capture_on_commit_callbacks(execute=True):
        client.post(f"/builds/{build.pk}/profile/start/", {**SEPARATION, "limit_M": "85", **KIND})
    before, stage = stage.profile, build.stages.get(kind="profile")
    assert stage.profile != before and stage.options["limits"] == {"M": 85.0}
    assert stage.profile.settings["black_strength"] == 90.0


def test_only_one_of_a_kind_is_built_at_a_time_and_it_can_be_stopped(
    client: Client, profile: Profile, django_capture_on_commit_callbacks: object
) -> None:
    with django_capture_on_commit_callbacks(execute=False):
        client.post(f"/profiles/{profile.pk}/rebuild/")
        page = client.post(f"/profiles/{profile.pk}/rebuild/", follow=True).content.decode()
    assert "being built already" in page and ProfileWork.objects.count() == 1
    job = ProfileWork.objects.get()
    assert 'data-hx-trigger="every 1s"' in client.get(f"/profiles/making/{job.pk}/part/").content.decode()
    client.post(f"/profiles/making/{job.pk}/cancel/")
    job.refresh_from_db()
    assert job.state == "cancelled"
    ended = client.get(f"/profiles/making/{job.pk}/part/")
    assert ended.status_code == 286 and "page-stale" in ended.headers["HX-Trigger"], "it is asked no more"


# --- rebuilding, proposing ---------------------------------------------------------------------


def test_a_profile_is_rebuilt_from_what_it_carries(
    client: Client, profile: Profile, django_capture_on_commit_callbacks: object
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        client.post(f"/profiles/{profile.pk}/rebuild/")
    made = ProfileWork.objects.get().result
    assert made is not None and "inside the profile" in made.made_from["from"]
    device = np.random.default_rng(2).random((200, 4))
    old, new = icc.loads(bytes(profile.data)), icc.loads(bytes(made.data))
    assert np.abs(old.device_to_lab(device) - new.device_to_lab(device)).mean() < 0.3


def test_an_attached_profile_gets_a_model_when_it_is_looked_at(client: Client, user: User) -> None:
    from greyanchor.core.profiling.attached import examine

    data = _draft().data
    queries._model.cache_clear()
    queries._preview.cache_clear()
    kept = keep_attached(data, "From elsewhere", examine(data, "x.icc", 3.0), {"attached": "x.icc"}, user)
    assert client.get(f"/profiles/{kept.pk}/separation/").status_code == 200
    kept.refresh_from_db()
    assert kept.fitted


def test_proposed_patches_wait_for_the_next_chart_of_the_environment(
    client: Client, profile: Profile
) -> None:
    page = client.post(f"/profiles/{profile.pk}/proposals/", follow=True).content.decode()
    waiting = ProposedPatches.objects.get()
    assert "60 patches wait" in page and len(waiting.device) == 60 and len(waiting.device[0]) == 4
    client.post(f"/profiles/{profile.pk}/proposals/")
    assert ProposedPatches.objects.count() == 1, "the newer proposal takes the place of the older"


def test_a_profile_of_no_environment_has_no_next_chart(client: Client, user: User) -> None:
    lonely = keep_profile(_draft(), "Lonely", 4, OPTIONS, {}, user)
    page = client.post(f"/profiles/{lonely.pk}/proposals/", follow=True).content.decode()
    assert "belongs to no print environment" in page and not ProposedPatches.objects.exists()


# --- looking -----------------------------------------------------------------------------------


def test_gamuts_come_as_solids_with_patches_when_asked(client: Client, profile: Profile) -> None:
    found = json.loads(client.get(f"/profiles/{profile.pk}/gamut/solids.json").content)
    assert [s["title"] for s in found["solids"]] == ["Quay draft", "Generic coated"] and not found["dots"]
    first = found["solids"][0]
    assert (
        len(first["vertices"]) == len(first["colours"]) and max(first["faces"]) < len(first["vertices"]) / 3
    )
    with_dots = json.loads(client.get(f"/profiles/{profile.pk}/gamut/solids.json?patches=1&aim=0").content)
    assert len(with_dots["solids"]) == 1 and len(with_dots["dots"]["places"]) == 3 * 320


def test_cuts_move_and_keep_their_range(client: Client, profile: Profile) -> None:
    page = client.get(f"/profiles/{profile.pk}/gamut/cut/?light=70&hue=200").content.decode()
    assert "At L* 70" in page and "Through hue 200°" in page
    wild = client.get(f"/profiles/{profile.pk}/gamut/cut/?light=900&hue=x").content.decode()
    assert "At L* 98" in wild and "Through hue 40°" in wild


def test_three_gamuts_are_compared_by_figures(client: Client, profile: Profile, user: User) -> None:
    other = keep_profile(_draft(), "Other one", 4, OPTIONS, {}, user)
    page = client.get(f"/profiles/{profile.pk}/gamut/?other={other.pk}").content.decode()
    row = re.search(
        r"Other one</td><td class=\"num\">(\d+)</td><td class=\"num\">[^<]+</td><td class=\"num\">([\d.]+)<",
        page,
    )
    assert row and float(row[2]) == pytest.approx(100.0, abs=0.1)


def test_soft_proofs_are_pictures_for_every_intent(client: Client, profile: Profile) -> None:
    import io

    from PIL import Image

    seen = {}
    for intent in ("source", "perceptual", "relative", "saturation", "absolute"):
        answer = client.get(f"/profiles/{profile.pk}/proof/form-{intent}.png")
        seen[intent] = np.asarray(Image.open(io.BytesIO(answer.content)), dtype=float)
        assert seen[intent].shape == (240, 480, 3)
    assert np.abs(seen["perceptual"] - seen["source"]).mean() > 2
    lightest = {k: v.min(axis=2).max() for k, v in seen.items()}
    assert lightest["absolute"] < lightest["relative"], "paper is not as white as the screen"
    assert client.get(f"/profiles/{profile.pk}/proof/ramps-perceptual.png").status_code == 200
    assert client.get(f"/profiles/{profile.pk}/proof/?intent=odd").status_code == 404


def test_the_worst_patches_stand_first(client: Client, profile: Profile) -> None:
    page = client.get(f"/profiles/{profile.pk}/errors/").content.decode()
    off = [float(v) for v in re.findall(r'<td class="num">(\d+\.\d\d)</td></tr>', page)]
    assert len(off) == 12 and off == sorted(off, reverse=True)


def test_names_are_shown_as_text(client: Client, user: User) -> None:
    named = keep_profile(_draft(), "<script>x</script>", 4, OPTIONS, {}, user)
    for page in ("", "gamut/", "errors/", "separation/"):
        assert b"<script>x" not in client.get(f"/profiles/{named.pk}/{page}").content


# --- lights ------------------------------------------------------------------------------------


def test_a_measured_light_is_chosen_for_a_profile(
    client: Client, profile: Profile, django_capture_on_commit_callbacks: object
) -> None:
    room = RoomLight.objects.create(name="Quay table", power=[100.0] * 421)
    assert "Quay table, measured" in client.get("/profiles/new/").content.decode()
    with django_capture_on_commit_callbacks(execute=True):
        client.post(
            "/profiles/new/",
            {
                **KIND,
                "light": f"room:{room.pk}",
                "preset": "even",
                "files": [sent(readings_text("petrel-44", "K", 64))],
            },
        )
    assert ProfileWork.objects.get().state == "done"


# --- refining a mode ---------------------------------------------------------------------------


def _read_round(made: Refinement, user: User) -> None:
    job = print_sheet(refinements.job_of(made).pk, user)
    keep_whole_pass(job, careful_reading(job, 1), "stand-in strip reader SR-1042", user)


def test_a_mode_is_refined_round_by_round_and_uses_the_result(
    client: Client, mode: PrintMode, user: User, django_capture_on_commit_callbacks: object
) -> None:
    let_drift(mode.printer, {"C": 1.08})
    client.post(f"/modes/{mode.pk}/refine/")
    made = Refinement.objects.get()
    with django_capture_on_commit_callbacks(execute=True):
        _read_round(made, user)
    first = made.rounds.get()
    assert first.state == "done", first.message
    assert first.result["off"]["mean"] > first.result["noise"] and first.after is not None
    client.post(f"/refinements/{made.pk}/another/")
    with django_capture_on_commit_callbacks(execute=True):
        _read_round(made, user)
    second = made.rounds.get(number=2)
    assert second.through == first.after
    assert second.result["off"]["mean"] < 0.8 * first.result["off"]["mean"]
    page = client.get(f"/refinements/{made.pk}/").content.decode()
    assert "how far each round" in page
    before = mode.profile
    client.post(f"/refinements/{made.pk}/use/", {"reason": "nearer"})
    mode.refresh_from_db()
    assert mode.profile != before and mode.profile in (second.after, second.through)
    assert "refined by 2 prints" in mode.history.first().history_change_reason
    assert client.post(f"/refinements/{made.pk}/another/", follow=True).content.decode().count("is over") == 1


def test_refining_is_refused_without_a_profile_and_twice_at_once(mode: PrintMode, user: User) -> None:
    made = refinements.start(mode, user)
    with pytest.raises(BadInput, match="refined already"):
        refinements.start(mode, user)
    refinements.close(made, "no time")
    mode.profile = None
    with pytest.raises(BadInput, match="no profile to refine"):
        refinements.start(mode, user)


def test_a_profile_changed_meanwhile_is_not_overwritten(
    mode: PrintMode, user: User, django_capture_on_commit_callbacks: object
) -> None:
    made = refinements.start(mode, user)
    with django_capture_on_commit_callbacks(execute=True):
        _read_round(made, user)
    mode.profile = keep_profile(_draft(), "Somebody's", 4, OPTIONS, {}, user)
    mode.save()
    with pytest.raises(BadInput, match="changed by somebody else"):
        refinements.use(made, "", user)


def test_proposals_join_the_next_profile_chart(mode: PrintMode, user: User) -> None:
    from greyanchor.builds.evidence.charts import lay_out_stage
    from greyanchor.builds.lifecycle.start import renew
    from greyanchor.builds.stages import names

    build = renew(mode, "profile", user)
    asked = [[0.11, 0.22, 0.33, 0.44], [0.9, 0.9, 0.9, 0.9]]
    propose(mode.profile, build.environment_hash, asked, user)
    job = lay_out_stage(build.stages.get(kind=names.PROFILE_CHART), {"patches": 300, "page": "a4"})
    device = job.chart.patches.values()
    assert len(device) == 301, "what exceeds the total ink of the mode is left out"
    assert (np.abs(device - asked[0]).max(axis=1) < 1e-3).any()
