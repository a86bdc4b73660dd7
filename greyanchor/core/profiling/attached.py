"""A profile made elsewhere, examined before it is treated like one of ours."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.core.characterization.model import FitReport
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet, as_inks
from greyanchor.core.profiling.build import largest_total, neutral_axis, printable, round_trip
from greyanchor.core.profiling.gamut import Gamut, gamut_of
from greyanchor.core.profiling.tables import picture_channels

#: mean dE00 between a profile and readings of its print: beyond the first it is doubted, beyond the second
#: refused
DOUBTED, FOREIGN = 1.2, 4.0
_TABLES = ("A2B0", "B2A0")


@dataclass(frozen=True)
class Examination:
    """What a profile is and whether it belongs.

    Attributes
    ----------
    report
        The figures of a profile of ours; ``held_out`` is its agreement with the readings, None without.
    neutral, gamut
        As in a `ProfileResult`.
    doubts
        What asks for a person's word before it is used, in words.
    """

    report: dict[str, Any]
    neutral: Array
    gamut: Gamut
    doubts: tuple[str, ...]


def examine(
    data: bytes,
    name: str,
    total_ink: float,
    readings: ReadingSet | None = None,
    channels: tuple[str, ...] = tuple("CMYK"),
) -> Examination:
    """Read, test and measure a printer profile of `channels` against `total_ink` (sum of fractions) and
    readings.

    Raises `BadInput` for files that are no such profile, whose white, black or ramps make no sense, or
    that describe another print than `readings` do.
    """
    profile = icc.loads(data, name)
    try:
        _refuse_other_kinds(profile, channels)
        _refuse_nonsense(profile)
        agreement = _agreement(profile, readings)
    except BadInput as error:
        raise error.at(name) from None
    neutral = neutral_axis(profile)
    to_lab = profile.device_to_lab
    there_and_back = round_trip(profile, to_lab, total_ink)
    most = 100.0 * largest_total(profile)
    gamut = gamut_of(to_lab, total_ink, profile.inks)
    reached = printable(neutral)
    report = {
        "patches": len(readings) if readings is not None else 0,
        "seconds": 0.0,
        "fit": None,
        "held_out": agreement.as_dict() if agreement else None,
        "round_trip": there_and_back.as_dict(),
        "neutral_dch_max": float(np.hypot(neutral[:, -2], neutral[:, -1])[reached].max())
        if reached.any()
        else None,
        "gamut_volume": gamut.volume,
        "total_ink_max": float(most),
        "white": [float(v) for v in xyz_to_lab(100.0 * profile.white)],
        "black_l": float(neutral[-1, -3]),
        "bytes": len(data),
    }
    return Examination(report, neutral, gamut, tuple(_doubts(profile, report, total_ink, agreement)))


def _refuse_other_kinds(profile: icc.IccProfile, channels: tuple[str, ...]) -> None:
    if profile.device_class != "prtr":
        raise BadInput(f"this is a profile of class {profile.device_class!r}, not of a printer")
    wanted = picture_channels(channels)
    if profile.channels != len(wanted) or (len(wanted) < 5 and profile.inks != wanted):
        raise BadInput(f"this profile is of {profile.space}; the mode prints {' '.join(channels)}")
    if profile.pcs != "Lab":
        raise BadInput(f"this profile connects through {profile.pcs}; Lab is needed")
    missing = [t for t in _TABLES if t not in profile.tags]
    if missing:
        raise BadInput(f"this profile has no {missing[0]} table")


def _refuse_nonsense(profile: icc.IccProfile) -> None:
    """White, black and the ramp of every channel must be what paper and ink are."""
    white = xyz_to_lab(100.0 * profile.white)
    if not 60.0 <= white[0] <= 101.0 or np.hypot(white[1], white[2]) > 25.0:
        raise BadInput(f"its media white, L* {white[0]:.0f} a* {white[1]:.0f} b* {white[2]:.0f}, is no paper")
    steps = np.linspace(0.0, 1.0, 21)
    for i, channel in enumerate(profile.inks):
        ramp = np.zeros((len(steps), profile.channels))
        ramp[:, i] = steps
        lab = profile.device_to_lab(as_inks(ramp, profile.inks))
        if not np.isfinite(lab).all():
            raise BadInput(f"its table gives no colour along the ramp of {channel}")
        away = np.linalg.norm(lab - lab[0], axis=1)
        if away[-1] < 15.0:
            raise BadInput(f"full {channel} is only {away[-1]:.0f} from paper in Lab: its tables are damaged")
        back = float(np.max(np.maximum.accumulate(away) - away))
        if back > 0.35 * float(away.max()):
            raise BadInput(f"the ramp of {channel} turns back by {back:.0f} in Lab: its tables are damaged")
    black = profile.device_to_lab(as_inks(np.full((1, profile.channels), 0.75), profile.inks))[0, 0]
    if black > white[0] - 30.0:
        raise BadInput(f"all inks together give L* {black:.0f}: its tables are damaged")


def _agreement(profile: icc.IccProfile, readings: ReadingSet | None) -> FitReport | None:
    """dE00 between the profile and readings that never shaped it."""
    if readings is None:
        return None
    if len(readings.channels) != profile.channels:
        raise BadInput(f"the readings are of {' '.join(readings.channels)}, the profile of {profile.space}")
    predicted = profile.device_to_lab(as_inks(readings.inks(), profile.inks))
    found = FitReport.of(delta_e_2000(predicted, readings.lab()))
    if found.mean > FOREIGN:
        raise BadInput(
            f"it describes another print: mean {found.mean:.1f} dE00 from the readings of this mode's chart"
        )
    return found


def _doubts(
    profile: icc.IccProfile, report: dict[str, Any], total_ink: float, agreement: FitReport | None
) -> list[str]:
    doubts = []
    if agreement is None:
        doubts.append("no readings of this mode say whether it belongs to it")
    elif agreement.mean > DOUBTED:
        doubts.append(f"it is {agreement.mean:.1f} dE00 mean from the readings of this mode's chart")
    if report["total_ink_max"] > 100.0 * total_ink * 1.01:
        doubts.append(
            f"it prints up to {report['total_ink_max']:.0f} % of ink, {100 * total_ink:.0f} % is this "
            "mode's limit"
        )
    paper = 100.0 * as_inks(profile.lab_to_device(np.array([[100.0, 0.0, 0.0]]), "relative"), profile.inks)[0]
    if paper.max() > 1.5:
        doubts.append(f"it prints {paper.sum():.0f} % of ink where bare paper is asked for")
    if report["round_trip"]["mean"] > 1.0:
        doubts.append(f"its tables disagree with each other by {report['round_trip']['mean']:.1f} dE00 mean")
    return doubts
