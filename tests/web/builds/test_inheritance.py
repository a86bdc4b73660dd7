"""Limits and curves from the media class."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.lifecycle import inheritance, redo, start
from greyanchor.builds.models import Build
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.models import Printer, PrintMode
from greyanchor.library.modes.fallbacks import set_fallback
from tests.web.conftest import (
    CHOICES,
    accept,
    read_stage,
    stage_of,
)


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
