"""From readings to a profile and its quality report."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

import numpy as np

from greyanchor.core.characterization import trust
from greyanchor.core.characterization.model import FitReport, ForwardModel, characterize
from greyanchor.core.characterization.small_charts import Kin, Likeness, characterize_like
from greyanchor.core.colour import jzazbz, rgb_spaces
from greyanchor.core.colour.colorimetry import (
    Array,
    bradford_matrix,
    delta_e_2000,
    lab_to_xyz,
    white_point,
    xyz_to_lab,
)
from greyanchor.core.colour.illuminants import Light
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.formats.icc_tables import encode_lut16, encode_lut_a_to_b
from greyanchor.core.measurement.readings import ReadingSet, as_inks
from greyanchor.core.parallel import one_thread
from greyanchor.core.profiling import sources
from greyanchor.core.profiling.compression import PERCEPTUAL, SATURATION, compression_of
from greyanchor.core.profiling.gamut import Gamut, gamut_from_lab
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.rebuild import LIKE, with_settings
from greyanchor.core.profiling.rendering import CENTRE_L, Rendering
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.shell import shell_of, surface_inks
from greyanchor.core.profiling.tables import (
    TableSizes,
    backward_tables,
    forward_tables,
    pcs_axes,
    picture_channels,
)

Progress = Callable[[float, str], None]
NEUTRAL_STEPS = 120
#: a step of the neutral axis is printed down to this much (L*) below the darkest of all
REACHED_WITHIN = 0.25
#: less lightness (L*) or volume (cubic Lab) than this is no gamut to profile
LEAST_RANGE, LEAST_VOLUME = 12.0, 3000.0
#: a black is neutral when its colour is met to this (weighted Lab)
_NEUTRAL_WITHIN = 0.25
#: the figures of the command's report, in the order it gives them
REPORT_FIGURES = ("patches", "seconds", "fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume")
_COPYRIGHT = "No copyright, use freely"


@dataclass(frozen=True)
class ProfileSettings:
    """What a profile is built with; fractions, like the core.

    `sizes` None is `TableSizes.usual`. `source` is the gamut that perceptual and saturation renderings make
    room for: a name of `rgb_spaces.NAMES` or a profile. `noise` is the standard deviation of one value of Lab
    in the readings, where double readings said it; repeated patches say it otherwise.
    """

    separation: Separation = field(default_factory=Separation)
    version: int = 4
    light: Light = "D50"
    title: str = "Untitled print mode"
    sizes: TableSizes | None = None
    created: datetime | None = None
    source: str | icc.IccProfile = rgb_spaces.USUAL
    noise: float = 0.0

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
    """Characterize `readings` of a profile chart and assemble the whole ICC profile.

    `progress` gets a share 0..1 and what is being done; it may raise to cancel.
    Raises `BadInput` when the readings cannot carry a profile.
    """
    began = time.perf_counter()
    progress(0.02, "fitting the printer model")
    model = characterize_for(readings, settings)
    result = build_from_model(model, readings, settings, progress)
    result.report["warnings"] += trust.warnings(readings, model)
    result.report["noise"] = settings.noise or noise_of(readings)
    result.report["seconds"] = round(time.perf_counter() - began, 2)
    return result


def noise_of(readings: ReadingSet) -> float:
    """What repeated patches say of the noise; 0 where nothing was measured or repeated."""
    return trust.repeat_spread(readings) if readings.is_measured else 0.0


def characterize_for(readings: ReadingSet, settings: ProfileSettings) -> ForwardModel:
    """The model that a profile of `readings` is built from; `BadInput` when it cannot be trusted."""
    model = characterize(readings, settings.light, noise=settings.noise or noise_of(readings))
    trust.check_colours(readings)
    trust.check_model(model)
    return model


def build_like(
    readings: ReadingSet, kin: Kin, settings: ProfileSettings, progress: Progress = _quiet
) -> tuple[ProfileResult, Likeness]:
    """A profile from a small chart of a new media and what other media with the same inks teach, and how the
    media stands to those.

    Raises `BadInput` when the readings cannot carry one, or are of other inks.
    """
    began = time.perf_counter()
    progress(0.02, "fitting what this media changes")
    trust.check_colours(readings)
    noise = settings.noise or noise_of(readings)
    model, likeness = characterize_like(readings, kin, settings.light, noise)
    named = replace(readings, meta={**readings.meta, LIKE: ", ".join(kin.names)})
    result = build_from_model(model, named, settings, progress)
    # that the chart is thin is what it was made for
    result.report["warnings"] += likeness.warnings(len(readings))
    result.report["noise"] = noise
    result.report["seconds"] = round(time.perf_counter() - began, 2)
    return result, likeness


@one_thread
def build_from_model(
    model: ForwardModel,
    readings: ReadingSet,
    settings: ProfileSettings,
    progress: Progress = _quiet,
    common: Rendering | None = None,
) -> ProfileResult:
    """Assemble the whole ICC profile of a fitted model; `readings` go into the file.

    `common` is how it renders where it prints like others: into their gamut, under their white.
    """
    began = time.perf_counter()
    channels = len(model.channels)
    sizes = settings.sizes or TableSizes.usual(channels, settings.version)
    total = min(settings.separation.total_ink, float(channels))
    separation = replace(settings.separation, total_ink=total)
    progress(0.2, "finding the gamut")
    inverter = Inverter(model, separation)
    white = media_white(model) if common is None else common.white
    inks = inverter.held(surface_inks(channels, total, inverter.tops, inverter.black))
    gamut = gamut_from_lab(model_lab(inverter, inks))
    _refuse_no_gamut(gamut, channels)
    rendering = rendering_for(inverter, white, inks, settings) if common is None else common
    progress(0.25, "device to Lab tables")
    forward = forward_tables(inverter, rendering, sizes)

    def inner(share: float, text: str) -> None:
        progress(0.32 + 0.6 * share, text)

    axes = pcs_axes(model, rendering, inks[:: max(1, len(inks) // 3000)])
    backward, gamut_tag = backward_tables(inverter, rendering, sizes, axes, inner)
    progress(0.93, "assembling and proving the profile")
    tags = _tags(settings, readings, model, white)
    tags |= {name: encode_lut16(lut) for name, lut in (forward | backward).items() if name != "A2B1"}
    tags["A2B1"] = (encode_lut_a_to_b if sizes.exact else encode_lut16)(forward["A2B1"])
    tags["gamt"] = encode_lut16(gamut_tag)
    when = settings.created or datetime.now(UTC)
    data = icc.build(tags, model.channels, settings.version, when)
    profile = icc.loads(data)
    neutral = neutral_axis(profile)
    report = {
        "patches": len(readings),
        "seconds": round(time.perf_counter() - began, 2),
        "fit": model.fit.as_dict(),
        "held_out": model.held_out.as_dict(),
        "round_trip": round_trip(profile, _device_lab(model), total, inverter.tops).as_dict(),
        "neutral_dch_max": float(np.hypot(neutral[:, -2], neutral[:, -1])[printable(neutral)].max()),
        "gamut_volume": gamut.volume,
        "total_ink_max": float(100.0 * largest_total(profile)),
        "white": [float(v) for v in xyz_to_lab(100.0 * white)],
        "black_l": float(inverter.darkest),
        "bytes": len(data),
        "smoothness": smoothness(neutral),
        "warnings": [],
    }
    progress(1.0, "done")
    return ProfileResult(data, report, neutral, gamut, model)


def _device_lab(model: ForwardModel) -> Callable[[Array], Array]:
    return lambda device: model.lab(as_inks(device, picture_channels(model.channels)))


def model_lab(inverter: Inverter, inks: Array) -> Array:
    """Absolute Lab (n, 3) of ink amounts by the compact model, which is near enough for a surface."""
    return inverter.quick.lab(inverter.model.to_even(inks))


def _refuse_no_gamut(gamut: Gamut, channels: int) -> None:
    if gamut.lightest - gamut.darkest < LEAST_RANGE or (channels > 2 and gamut.volume < LEAST_VOLUME):
        raise BadInput(
            f"these limits leave no gamut (L* {gamut.darkest:.0f} to {gamut.lightest:.0f}): "
            "raise total ink, the largest black or the limits of the channels"
        )


def smoothness(neutral: Array) -> float:
    """Largest second difference of any ink along the neutral axis (steps, channels + 4) of
    `neutral_axis`, in percent of ink per step squared.
    """
    inks = neutral[printable(neutral), 1:-3]
    return float(np.abs(np.diff(inks, 2, axis=0)).max()) if len(inks) > 2 else 0.0


def media_white(model: ForwardModel) -> Array:
    """XYZ (3,) of the unprinted media, Y = 1, adapted like the model: what the model says of no ink, which
    weighs repeated readings of the paper and what light tints say of it.
    """
    return np.asarray(lab_to_xyz(model.lab(np.zeros((1, len(model.channels)))))[0] / 100.0)


def rendering_for(inverter: Inverter, white: Array, inks: Array, settings: ProfileSettings) -> Rendering:
    """The intents' maps for one model: gamut surfaces and darkest colour on the media-relative scale.

    `white` is XYZ (3,), `inks` (n, channels) fractions that span the gamut.
    """
    bare = Rendering(white, 0.0, icc.perceptual_black(settings.version))
    darkest = darkest_neutral(inverter, bare)
    ends = Rendering(white, darkest, bare.pcs_black)
    if len(inverter.model.channels) < 3:
        return ends
    axis = jzazbz.from_lab(np.array([[darkest, 0.0, 0.0], [100.0, 0.0, 0.0], [CENTRE_L, 0.0, 0.0]]))[:, 0]
    low, high, centre = (float(v) for v in axis)
    middle = np.array([centre, 0.0, 0.0])
    printer = shell_of(jzazbz.from_lab(bare.relative(model_lab(inverter, inks))), middle, (low, high))
    points = ends.lay_ends(sources.source_points(settings.source))
    perceptual, saturation = (
        compression_of(knee, printer, points, (low, high)) for knee in (PERCEPTUAL, SATURATION)
    )
    return replace(ends, printer=printer, perceptual=perceptual, saturation=saturation)


def darkest_neutral(inverter: Inverter, bare: Rendering) -> float:
    """Media-relative L* of the darkest print that is neutral: the darkest of all may have a colour."""
    low = float(bare.relative(np.array([[inverter.darkest, 0.0, 0.0]]))[0, 0])
    if len(inverter.model.channels) < 3:
        return low
    lightness = low + np.linspace(0.0, 15.0, 46)
    neutral = np.column_stack([lightness, np.zeros((46, 2))])
    met = inverter.solve(bare.absolute(neutral)).error < _NEUTRAL_WITHIN
    return float(lightness[met][0]) if met.any() else low


def _tags(
    settings: ProfileSettings, readings: ReadingSet, model: ForwardModel, white: Array
) -> dict[str, bytes]:
    text = icc.unicode_tag if settings.version == 4 else icc.text_tag
    describe = icc.unicode_tag if settings.version == 4 else icc.description_tag
    tags = {"desc": describe(settings.title), "cprt": text(_COPYRIGHT), "wtpt": icc.xyz_tag(white)}
    if settings.version == 4:
        tags["chad"] = icc.matrix_tag(bradford_matrix(white_point(settings.light), 100.0 * icc.PCS_WHITE))
    if icc.space_of(model.channels).endswith(b"CLR"):
        tags["clrt"] = icc.colorant_tag(model.channels, model.lab(np.eye(len(model.channels))))
    tags["targ"] = icc.text_tag(cgats.dumps(with_settings(readings, settings.separation, settings.light)))
    return tags


def neutral_axis(profile: icc.IccProfile, steps: int = NEUTRAL_STEPS) -> Array:
    """How media-relative neutrals are printed, `steps` of them from black to white.

    Gives (n, channels + 4): aim L*, inks in percent, and L* a* b* that they reach.
    """
    lightness = np.linspace(100.0, 0.0, steps)
    lab = np.column_stack([lightness, np.zeros(steps), np.zeros(steps)])
    device = profile.lab_to_device(lab, "relative")
    reached = profile.device_to_lab(device, "relative")
    return np.column_stack([lightness, 100.0 * as_inks(device, profile.inks), reached])


def printable(neutral: Array) -> Array:
    """Which steps of `neutral_axis` (n, channels + 4) the printer reaches in lightness, those from white to
    its darkest neutral: a mask (n,).
    """
    return np.asarray(neutral[:, 0] > neutral[:, -3].min() - REACHED_WITHIN)


def round_trip(
    profile: icc.IccProfile,
    to_lab: Callable[[Array], Array],
    total_ink: float,
    tops: Array | None = None,
    count: int = 2000,
) -> FitReport:
    """Lab to device and back through the finished tables, dE00, for colours inside the gamut.

    `to_lab` maps device fractions (n, channels) to absolute Lab: the model, or the profile's own table.
    `tops` (channels,) are the largest amounts of single inks that the profile prints, black among them;
    colours beyond them are outside its gamut.
    """
    inks = random_inks(profile.channels, total_ink, count, tops)
    aim = to_lab(as_inks(inks, profile.inks))
    if profile.channels == 1:  # what a grey printer's paper and ink look like is no choice of the profile
        aim = profile.device_to_lab(as_inks(inks, profile.inks))
    return FitReport.of(delta_e_2000(aim, to_lab(profile.lab_to_device(aim))))


def random_inks(channels: int, total_ink: float, count: int, tops: Array | None = None) -> Array:
    """Ink amounts (about count, channels) well inside `total_ink`, a quarter of them without black;
    seeded.

    Fractions; `total_ink` is a sum of them, `tops` (channels,) the largest amount of each. About `count` rows
    (n, channels).
    """
    random = np.random.default_rng(5).random((count * 2, channels))
    if channels > 3:
        random[: count // 2, 3] = 0.0
    if channels > 4:  # neighbours do not all print at once
        random[:, 4:] *= np.random.default_rng(6).random((count * 2, channels - 4)) < 1.0 / 3.0
    if tops is not None:
        random = random * tops
    return random[random.sum(axis=1) < 0.95 * total_ink][:count]


def largest_total(profile: icc.IccProfile, side: int = 33) -> float:
    """Largest sum of inks (fraction) that any B2A table prints, over a dense net of Lab."""
    axis_l, axis_ab = np.linspace(0.0, 100.0, side), np.linspace(-128.0, 127.0, side)
    lab = np.stack(np.meshgrid(axis_l, axis_ab, axis_ab, indexing="ij"), axis=-1).reshape(-1, 3)

    def most(intent: str) -> float:
        return float(as_inks(profile.lab_to_device(lab, intent), profile.inks).sum(axis=1).max())

    return max(most(i) for i in ("relative", "perceptual", "saturation"))
