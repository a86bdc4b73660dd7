"""Attaching a profile made elsewhere to a build."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.builds.lifecycle import acceptance_rules
from greyanchor.builds.models import Build
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.profiles.models import Profile
from tests.web.conftest import accept, stage_of


def attach(client: Client, build: Build, data: bytes, name: str = "elsewhere.icc") -> str:
    file = SimpleUploadedFile(name, data)
    return client.post(f"/builds/{build.pk}/profile/attach/", {"file": file}, follow=True).content.decode()


def test_a_profile_that_belongs_is_attached_and_treated_like_ours(
    client: Client, up_to: Callable[[str], Build], built: ProfileResult, user: User
) -> None:
    build = up_to("profile")
    page = attach(client, build, built.data)
    stage = stage_of(build, "profile")
    assert "elsewhere.icc is attached" in page and stage.result["attached"] == "elsewhere.icc"
    assert stage.result["held_out"]["mean"] < 1.2, "both are of the same stand-in"
    assert "attached: elsewhere.icc" in page
    shown = client.get(f"/profiles/{stage.profile_id}/").content.decode()
    assert "attached from elsewhere.icc" in shown and "Against the readings of this mode" in shown
    values = acceptance_rules.objections(stage)
    accept(build, "profile", user, {}, "as agreed" if values else "")
    mode = stage_of(build, "profile").build.mode
    mode.refresh_from_db()
    assert bytes(mode.profile.data) == built.data
    assert client.get(f"/profiles/{mode.profile_id}/profile.icc").content == built.data
    assert client.get(f"/checks/predict/{mode.profile_id}/?").status_code == 200


def test_doubts_ask_for_a_reason(
    client: Client, up_to: Callable[[str], Build], built: ProfileResult, user: User
) -> None:
    build = up_to("profile")
    total = stage_of(build, "total-ink")
    total.decision = {"total_ink": 200.0}
    total.save()
    page = attach(client, build, built.data)
    assert "200 % is this mode&#x27;s limit" in page and "Reason required" in page
    with pytest.raises(BadInput, match="say why"):
        accept(build, "profile", user, {})


def test_a_file_that_cannot_be_used_leaves_the_stage_as_it_was(
    client: Client, up_to: Callable[[str], Build], built: ProfileResult
) -> None:
    build = up_to("profile")
    for data, words in ((b"nothing", "not an ICC profile"), (built.data[:5000], "cut off")):
        page = attach(client, build, data, "bad.icc")
        assert words in page and "bad.icc" in page and "Nothing was changed." in page
    assert (
        "Choose a profile first."
        in client.post(f"/builds/{build.pk}/profile/attach/", follow=True).content.decode()
    )
    assert stage_of(build, "profile").result is None and not Profile.objects.exists()


def test_nothing_is_attached_where_the_stage_is_not_open(
    client: Client, build: Build, built: ProfileResult
) -> None:
    assert "the profile stage is not open" in attach(client, build, built.data).replace(
        "The profile", "the profile"
    )
    assert not Profile.objects.exists()
