"""What pages ask of profiles and aims."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from greyanchor.core.formats import cgats, icc
from greyanchor.core.profiling.gamut import Gamut, gamut_of
from greyanchor.core.verification import aims, northlight
from greyanchor.profiles.models import AimRecord, Profile


def gamut_of_profile(profile: Profile) -> Gamut:
    """The stored gamut boundary of a profile."""
    return Gamut(np.array(profile.boundary), profile.lightest, profile.darkest)


def aim_of(record: AimRecord) -> aims.Aim:
    """The core's aim of a record; parsed once in each process."""
    return _parsed_aim(record.pk, record.name, record.edition)


@lru_cache(maxsize=8)
def _parsed_aim(pk: int, name: str, edition: int) -> aims.Aim:
    data = bytes(AimRecord.objects.get(pk=pk).data)
    if icc.is_profile(data):
        return aims.from_profile(icc.loads(data, name), name)
    return aims.from_data(cgats.loads(data, name), name)


@lru_cache(maxsize=1)
def northlight_gamut() -> Gamut:
    """The gamut of the aim Northlight Coated, to draw beside that of a profile."""
    return gamut_of(northlight.aim_lab, 4.0)
