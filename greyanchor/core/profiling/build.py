"""From readings to a profile and its quality report."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import numpy as np

from greyanchor.core.characterization import trust
from greyanchor.core.characterization.model import FitReport, ForwardModel, characterize
from greyanchor.core.colorimetry import Array, bradford_matrix, delta_e_2000, white_point, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.formats.icc_tables import encode_lut16
from greyanchor.core.profiling.gamut import Gamut, gamut_of
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.rendering import Rendering
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes, backward_tables, forward_tables
from greyanchor.core.readings import ReadingSet

Progress = Callable[[float, str], None]
NEUTRAL_STEPS = 60
#: the figures of the command's report, in the order it gives them
REPORT_FIGURES = ("patches", "seconds", "fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume")
_COPYRIGHT = "No copyright, use freely"


@dataclass(frozen=True)
class ProfileSettings:
    """What a profile is built with; fractions, like the core."""

    separation: Separation = field(default_factory=Separation)
    version: int = 4
    light: str = "D50"
    title: str = "Untitled print mode"
    sizes: TableSizes = field(default_factory=TableSizes)
    created: datetime | None = None

    def __post_init__(self) -> None:
        if self.version not in (2, 4):
            raise BadInput(f"ICC version {self.version} is not written; use 2 or 4")


@dataclass(frozen=True)
class ProfileResult:
    """A finished profile.

    Attributes
    ----------
    data
        Bytes of the ICC file.
    report
        The contract's figures: patches, seconds, fit, held_out, round_trip (dE00), neutral_dch_max,
        gamut_volume; and total_ink_max in percent, white and black as Lab.
    neutral
        Neutral axis (steps, 8): aim L*, C M Y K in percent, reached L*, a*, b* relative.
    gamut
        Boundary in absolute Lab.
    """

    data: bytes
    report: dict[str, Any]
    neutral: Array
    gamut: Gamut
    model: ForwardModel


def _quiet(share: float, text: str) -> None:
    """Progress that nobody watches."""


def build_profile(
    readings: ReadingSet, settings: ProfileSettings, progress: Progress = _quiet
) -> ProfileResult:
    """Characterize `readings` of a CMYK profile chart and assemble the whole ICC profile.

    `progress` is told a share 0..1 and what is being done; it may raise to cancel.
    Raises `BadInput` when the readings cannot carry a profile.
    """
    if readings.channels != tuple("CMYK"):
        raise BadInput(
            f"profiles are built for CMYK; these readings are of {'+'.join(readings.channels) or 'no channels'}"
        )
    began = time.perf_counter()
    progress(0.02, "fitting the printer model")
    model = characterize(readings, settings.light)
    trust.check_colours(readings)
    trust.check_model(model)
    progress(0.2, "finding the gamut")
    inverter = Inverter(model, settings.separation)
    white = media_white(readings, model)
    gamut = gamut_of(model.lab, settings.separation.total_ink)
    rendering = rendering_for(model, inverter, white, settings)
    progress(0.25, "device to Lab tables")
    forward = forward_tables(model, rendering, settings.sizes)

    def inner(share: float, text: str) -> None:
        progress(0.32 + 0.6 * share, text)

    backward, gamut_tag = backward_tables(inverter, rendering, settings.sizes, inner)
    progress(0.93, "assembling and proving the profile")
    tags = _tags(settings, readings, white)
    tags |= {name: encode_lut16(lut) for name, lut in (forward | backward).items()}
    tags["gamt"] = encode_lut16(gamut_tag)
    when = settings.created or datetime.now(UTC)
    data = icc.build(tags, 4, settings.version, when)
    profile = icc.loads(data)
    neutral = neutral_axis(profile)
    report = {
        "patches": len(readings),
        "seconds": round(time.perf_counter() - began, 2),
        "fit": model.fit.as_dict(),
        "held_out": model.held_out.as_dict(),
        "round_trip": round_trip(profile, model.lab, settings.separation.total_ink).as_dict(),
        "neutral_dch_max": float(np.hypot(neutral[:, 6], neutral[:, 7])[printable(neutral)].max()),
        "gamut_volume": gamut.volume,
        "total_ink_max": float(100.0 * largest_total(profile)),
        "white": [float(v) for v in xyz_to_lab(100.0 * white)],
        "black_l": float(inverter.darkest),
        "bytes": len(data),
        "warnings": trust.warnings(readings, model),
    }
    progress(1.0, "done")
    return ProfileResult(data, report, neutral, gamut, model)


def media_white(readings: ReadingSet, model: ForwardModel) -> Array:
    """XYZ (Y = 1) of the unprinted media: the mean of its readings, adapted like the model."""
    paper = readings.values().max(axis=1) < 1e-6
    if readings.spectra is not None:
        return np.asarray(readings.spectra[paper].mean(axis=0) @ model.to_xyz / 100.0)
    return np.asarray(readings.xyz()[paper].mean(axis=0) / 100.0)


def rendering_for(
    model: ForwardModel, inverter: Inverter, white: Array, settings: ProfileSettings
) -> Rendering:
    """The intents' maps for one model: gamut and darkest colour on the media-relative scale."""
    bare = Rendering(
        white, Gamut(np.zeros((51, 72)), 100.0, 0.0), 0.0, icc.perceptual_black(settings.version)
    )
    relative = gamut_of(lambda d: bare.relative(model.lab(d)), settings.separation.total_ink)
    neutral = np.array([[inverter.darkest, *(0.5 * inverter.white[1:])]])
    darkest = float(bare.relative(neutral)[0, 0])
    return Rendering(white, relative, darkest, bare.pcs_black)


def _tags(settings: ProfileSettings, readings: ReadingSet, white: Array) -> dict[str, bytes]:
    text = icc.unicode_tag if settings.version == 4 else icc.text_tag
    describe = icc.unicode_tag if settings.version == 4 else icc.description_tag
    tags = {"desc": describe(settings.title), "cprt": text(_COPYRIGHT), "wtpt": icc.xyz_tag(white)}
    if settings.version == 4:
        tags["chad"] = icc.matrix_tag(bradford_matrix(white_point(settings.light), 100.0 * icc.PCS_WHITE))
    tags["targ"] = icc.text_tag(cgats.dumps(readings))
    return tags


def neutral_axis(profile: icc.IccProfile, steps: int = NEUTRAL_STEPS) -> Array:
    """How media-relative neutrals are printed: (steps, 8) of aim L*, C M Y K percent, and L* a* b* reached."""
    lightness = np.linspace(100.0, 0.0, steps)
    lab = np.column_stack([lightness, np.zeros(steps), np.zeros(steps)])
    device = profile.lab_to_device(lab, "relative")
    return np.column_stack([lightness, 100.0 * device, profile.device_to_lab(device, "relative")])


def printable(neutral: Array) -> Array:
    """Steps whose lightness the printer reaches."""
    return np.asarray(np.abs(neutral[:, 0] - neutral[:, 5]) < 1.5)


def round_trip(
    profile: icc.IccProfile, to_lab: Callable[[Array], Array], total_ink: float, count: int = 2000
) -> FitReport:
    """Lab to device and back through the finished tables, dE00, for colours inside the gamut.

    `to_lab` maps device fractions (n, 4) to absolute Lab: the model, or the profile's own table.
    """
    device = np.random.default_rng(5).random((count * 2, 4))
    device[: count // 2, 3] = 0.0
    device = device[device.sum(axis=1) < 0.95 * total_ink][:count]
    aim = to_lab(device)
    return FitReport.of(delta_e_2000(aim, to_lab(profile.lab_to_device(aim))))


def largest_total(profile: icc.IccProfile, side: int = 41) -> float:
    """Largest sum of channels (fraction) that the relative colorimetric table prints, over a dense net of Lab."""
    axis_l, axis_ab = np.linspace(0.0, 100.0, side), np.linspace(-128.0, 127.0, side)
    lab = np.stack(np.meshgrid(axis_l, axis_ab, axis_ab, indexing="ij"), axis=-1).reshape(-1, 3)
    return float(
        max(profile.lab_to_device(lab, i).sum(axis=1).max() for i in ("relative", "perceptual", "saturation"))
    )
