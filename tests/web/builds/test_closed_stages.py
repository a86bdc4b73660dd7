"""Stages that are not open."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.evidence import visual
from greyanchor.builds.lifecycle import decisions
from greyanchor.builds.models import Build, Stage
from greyanchor.core.errors import BadInput
from tests.web.conftest import (
    stage_of,
)


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
