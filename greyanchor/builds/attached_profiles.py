"""Attaching a profile that was made elsewhere."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.builds.models import Stage
from greyanchor.builds.stages.accepted import decided
from greyanchor.builds.stages.names import PROFILE_CHART, TOTAL_INK
from greyanchor.builds.stages.profile import ProfileStageResult
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.profiling.attached import examine
from greyanchor.measuring.services import averaged
from greyanchor.profiles.services import keep_attached


@needs(MAKE)
@transaction.atomic
def attach_profile(stage: Stage, data: bytes, name: str, user: User) -> Stage:
    """Examine a profile against this build's readings and total ink, and make it the stage's result."""
    if stage.state != Stage.State.OPEN:
        raise BadInput("the profile stage is not open")
    chart = stage.build.stages.select_related("sheet_print").get(kind=PROFILE_CHART)
    readings = averaged(chart.sheet_print) if chart.sheet_print is not None else None
    total = decided(stage.build, TOTAL_INK)["total_ink"] / 100.0
    found = examine(data, name, total, readings)
    made_from: dict[str, Any] = {
        "attached": name,
        "environment": stage.build.environment_hash,
        "readings": readings.content_hash() if readings is not None else "",
    }
    title = icc.loads(data, name).description or name
    stage.profile = keep_attached(data, title, found, made_from, user)
    kept = ProfileStageResult.of_report(found.report, attached=name, doubts=list(found.doubts))
    stage.result = kept.to_json()
    stage.made_under = stage.build.environment
    stage.save()
    return stage
