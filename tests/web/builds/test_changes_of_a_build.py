"""A changed environment, faster modes, builds done again."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.evidence import charts
from greyanchor.builds.lifecycle import redo, start
from greyanchor.builds.models import Build
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.library.models import PrintMode
from tests.web.builds.conftest import finish
from tests.web.conftest import (
    CHOICES,
    accept,
    read_stage,
    stage_of,
)


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
