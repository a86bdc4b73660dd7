"""What changes profiles and aims."""

from __future__ import annotations

from typing import Any

from django.conf import settings as django_settings
from django.contrib.auth.models import User
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.http import HttpRequest

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.characterization import storage
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.profiling.attached import Examination
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.profiles.models import Profile, ProposedPatches

#: bytes of text that is parsed while somebody waits
_AT_ONCE = 6 * 2**20


@transaction.atomic
def keep_profile(
    result: ProfileResult,
    title: str,
    version: int,
    settings: dict[str, Any],
    made_from: dict[str, Any],
    user: User | None,
    derived_from: Profile | None = None,
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
        channels=list(result.model.channels),
        fitted=storage.to_bytes(result.model),
        derived_from=derived_from,
    )


@transaction.atomic
def keep_attached(
    data: bytes, title: str, found: Examination, made_from: dict[str, Any], user: User | None
) -> Profile:
    """Store a profile that was made elsewhere, with what its examination found."""
    profile = icc.loads(data, title)
    return Profile.objects.create(
        title=title[:160],
        version=profile.version[0],
        channels=list(profile.inks),
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


def content_of(sent: UploadedFile) -> bytes:
    """The bytes of an uploaded file; `BadInput` when it is too large to be what it should be."""
    size, most = sent.size or 0, django_settings.UPLOAD_LIMIT
    if size > most:
        raise BadInput(
            f"the file has {size / 2**20:.1f} MB; files up to {most / 2**20:.0f} MB are taken", str(sent.name)
        )
    return bytes(sent.read())


def small_content_of(sent: UploadedFile) -> bytes:
    """The bytes of a file that is parsed while somebody waits; `BadInput` for text that would take long."""
    data = content_of(sent)
    if len(data) > _AT_ONCE and not icc.is_profile(data[:4096]):
        raise BadInput(
            f"the file has {len(data) / 2**20:.1f} MB; text of up to {_AT_ONCE // 2**20} MB is taken here",
            str(sent.name),
        )
    return data


@needs(MAKE)
@transaction.atomic
def propose(
    profile: Profile, environment_hash: str, inks: list[list[float]], user: User | None
) -> ProposedPatches:
    """Keep patches for the next profile chart of an environment, in place of any that wait already."""
    ProposedPatches.objects.filter(environment_hash=environment_hash, used_at=None).delete()
    return ProposedPatches.objects.create(
        profile=profile, environment_hash=environment_hash, device=inks, created_by=user
    )


def sent_file(request: HttpRequest) -> tuple[bytes, str]:
    """Content and name of the file that a form sent; `BadInput` where none was chosen."""
    sent = request.FILES.get("file")
    if sent is None:
        raise BadInput("choose a file first")
    return small_content_of(sent), str(sent.name)
