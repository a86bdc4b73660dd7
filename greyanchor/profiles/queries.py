"""What pages ask of profiles and aims."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from greyanchor.background.cache import kept
from greyanchor.core.characterization import storage
from greyanchor.core.characterization.compact import CompactModel, compact
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.colour.colorimetry import Array, xyz_to_lab
from greyanchor.core.formats import cgats, icc
from greyanchor.core.measurement.readings import GREY, ReadingSet
from greyanchor.core.profiling import rebuild
from greyanchor.core.profiling.gamut import Gamut, gamut_of
from greyanchor.core.profiling.preview import Preview, preview
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.verification import aims, generic_aims
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.settings import options_of, separation_from


def gamut_of_profile(profile: Profile) -> Gamut:
    """The stored gamut boundary of a profile."""
    return Gamut(np.array(profile.boundary), profile.lightest, profile.darkest)


def channels_of(profile: Profile) -> tuple[str, ...]:
    """Inks of a profile; a picture in grey is one black ink."""
    found = tuple(profile.channels) or tuple("CMYK")
    return ("K",) if found == GREY else found


def parsed(profile: Profile) -> icc.IccProfile:
    """The profile's tables, parsed once in each process."""
    return _parsed(profile.pk, profile.sha256)


@lru_cache(maxsize=6)
def _parsed(pk: int, sha256: str) -> icc.IccProfile:
    return icc.loads(bytes(Profile.objects.values_list("data", flat=True).get(pk=pk)))


def readings_of(profile: Profile) -> ReadingSet:
    """The characterization data inside a profile, or colours read off its own table."""
    return _readings(profile.pk, profile.sha256)


@lru_cache(maxsize=6)
def _readings(pk: int, sha256: str) -> ReadingSet:
    return rebuild.characterization_of(_parsed(pk, sha256))[0]


def model_of(profile: Profile) -> ForwardModel:
    """The fitted model kept with a profile; without one of this version it is fitted once, and kept."""
    return _model(profile.pk, profile.sha256)[0]


@lru_cache(maxsize=6)
def _model(pk: int, sha256: str) -> tuple[ForwardModel, CompactModel]:
    held = Profile.objects.values_list("fitted", flat=True).get(pk=pk)
    model = storage.from_bytes(bytes(held)) if held else None
    if model is None:
        model = characterize(_readings(pk, sha256))
        Profile.objects.filter(pk=pk).update(fitted=storage.to_bytes(model))
    whole = float(len(model.channels))
    return model, kept(("compact", pk, sha256, storage.FORM), lambda: compact(model, whole))


def preview_of(profile: Profile, options: dict[str, Any]) -> Preview:
    """What a separation (percent) does on this profile's printer; the last ones are remembered."""
    return _preview(profile.pk, profile.sha256, json.dumps(options, sort_keys=True))


@lru_cache(maxsize=24)
def _preview(pk: int, sha256: str, options: str) -> Preview:
    def made() -> Preview:
        model, quick = _model(pk, sha256)
        return preview(model, separation_from(json.loads(options)), quick)

    return kept(("preview", pk, sha256, options), made)  # type: ignore[no-any-return]


def read_lab(profile: Profile) -> Array:
    """Lab (n, 3) of `readings_of` under the light that the profile was made for."""
    readings, model = readings_of(profile), model_of(profile)
    if readings.spectra is not None and len(model.to_xyz) == readings.spectra.shape[1]:
        return xyz_to_lab(readings.spectra @ model.to_xyz)
    return readings.lab()


def separation_options(profile: Profile) -> dict[str, Any]:
    """The separation of a profile in percent: as it was built here, else as it says itself, else the usual
    one.
    """
    if profile.settings.get("total_ink") or profile.settings.get("limits"):
        return options_of(separation_from(profile.settings))
    inside = rebuild.settings_inside(readings_of(profile))
    channels = len(channels_of(profile))
    return options_of(inside[0] if inside else Separation(total_ink=min(3.0, float(channels))))


def aim_of(record: AimRecord) -> aims.Aim:
    """The core's aim of a record; parsed once in each process."""
    return _parsed_aim(record.pk, record.name, record.edition)


@lru_cache(maxsize=12)
def _parsed_aim(pk: int, name: str, edition: int) -> aims.Aim:
    data, file_name, filled = AimRecord.objects.values_list("data", "file_name", "filled").get(pk=pk)
    found = aims.loads(bytes(data), file_name or name)
    return replace(found, name=name, filled=cgats.loads(filled, name) if filled else None)


@lru_cache(maxsize=1)
def generic_gamut() -> Gamut:
    """The gamut of the generic coated aim, to draw beside that of a profile."""
    return kept(  # type: ignore[no-any-return]
        ("gamut", generic_aims.COATED.key), lambda: gamut_of(generic_aims.aim_lab, 4.0)
    )
