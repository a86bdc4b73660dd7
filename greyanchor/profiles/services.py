"""What changes profiles and aims."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction

from greyanchor.core.formats import cgats, icc
from greyanchor.core.profiling.attached import Examination
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.core.verification import northlight
from greyanchor.profiles.models import AimRecord, Profile


@transaction.atomic
def keep_profile(
    result: ProfileResult,
    title: str,
    version: int,
    settings: dict[str, Any],
    made_from: dict[str, Any],
    user: AbstractBaseUser | None,
) -> Profile:
    """Store a finished profile with everything its page shows."""
    return Profile.objects.create(
        title=title,
        version=version,
        data=result.data,
        report=result.report,
        settings=settings,
        neutral=[[round(float(v), 3) for v in row] for row in result.neutral],
        boundary=[[round(float(v), 2) for v in row] for row in result.gamut.boundary],
        lightest=result.gamut.lightest,
        darkest=result.gamut.darkest,
        made_from=made_from,
        created_by=user,
    )


@transaction.atomic
def keep_attached(
    data: bytes, title: str, found: Examination, made_from: dict[str, Any], user: AbstractBaseUser | None
) -> Profile:
    """Store a profile that was made elsewhere, with what its examination found."""
    return Profile.objects.create(
        title=title[:160],
        version=icc.loads(data, title).version[0],
        data=data,
        report=found.report,
        settings={},
        neutral=[[round(float(v), 3) for v in row] for row in found.neutral],
        boundary=[[round(float(v), 2) for v in row] for row in found.gamut.boundary],
        lightest=found.gamut.lightest,
        darkest=found.gamut.darkest,
        made_from=made_from,
        created_by=user,
    )


@transaction.atomic
def ensure_northlight_aim() -> AimRecord:
    """The aim the application ships with; made on first use."""
    found = AimRecord.objects.filter(name="Northlight Coated").first()
    if found:
        return found
    return AimRecord.objects.create(
        name="Northlight Coated",
        source="computed from the solids of ISO 12647-2:2013 for premium coated paper; no measured press",
        data=cgats.dumps(northlight.aim_data()).encode(),
    )
