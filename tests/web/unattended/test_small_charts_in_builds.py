"""A build whose profile chart is small learns from the shop's other media, and says what they let expect."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse

from greyanchor.background import queue
from greyanchor.builds.enqueue import start_profile
from greyanchor.builds.evidence.charts import lay_out_stage
from greyanchor.builds.expected import expected_of
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import kin
from greyanchor.library.models import Media, PrintMode
from tests.web.builds.conftest import careful_hands  # noqa: F401  hands that never slip
from tests.web.conftest import CHOICES, PROFILE, accept, confirm_curves, found_limits, read_stage, stage_of


def _carry(build: Build, user: User, patches: int) -> Build:
    accept(build, "ink-limits", user, found_limits(read_stage(build, "ink-limits", user)))
    read_stage(build, "linearization", user)
    confirm_curves(build, user)
    accept(build, "linearization", user, {})
    stage = read_stage(build, "total-ink", user, 1)
    accept(build, "total-ink", user, {"total_ink": stage.result["percent"]})
    lay_out_stage(stage_of(build, "profile-chart"), {"patches": patches, "page": "a4"})
    read_stage(build, "profile-chart", user)
    accept(build, "profile-chart", user, {})
    return build


@pytest.mark.slow
def test_a_small_chart_is_built_with_what_other_media_teach(build: Build, user: User, client: Client) -> None:
    first = _carry(build, user, 220)
    others = []
    for name in ("Fathom Satin 260", "Kelp Synthetic 190"):
        media = Media.objects.create(
            name=name, media_class=build.mode.media.media_class, maker="W", weight=230, thickness=240,
            width_mm=1118,
        )  # fmt: skip
        mode = build.mode
        others.append(start_build(name, mode.printer, mode.ink_set, media, CHOICES, user))
    second = _carry(others[0], user, 220)
    new = _carry(others[1], user, 90)
    assert kin.kin_of(first) is None, "one other media alone teaches too little"
    known = kin.kin_of(new)
    assert known is not None and set(known.names) == {"Harbour Proof Semimatt 235", "Fathom Satin 260"}
    task = start_profile(stage_of(new, "profile"), dict(PROFILE), user)
    queue.run(task)
    stage = stage_of(new, "profile")
    assert stage.result is not None and stage.result["held_out"]["mean"] < 0.9, stage.result
    # what other media were given, before anything is read
    PrintMode.objects.filter(pk__in=[first.mode_id, second.mode_id]).update(state="released")
    found = expected_of(Build.objects.get(pk=new.pk))
    assert found is not None and {m.pk for m in found.modes} == {first.mode_id, second.mode_id}
    limit = PrintMode.objects.get(pk=first.mode_id).limits["C"]
    assert abs(found.found.limits["C"].value - limit) < 12
    page = client.get(reverse("build", args=[new.pk])).content.decode()
    assert "What other media let expect" in page and "±" in page
    assert Stage.objects.get(pk=stage.pk).profile_id is not None
