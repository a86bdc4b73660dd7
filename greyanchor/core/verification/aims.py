"""Aims: what a print should measure, from an ICC profile or from characterization data."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from greyanchor.core.colorimetry import Array, correct_substrate, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc, readings_file
from greyanchor.core.readings import ReadingSet
from greyanchor.core.verification import northlight

#: device values that count as the same patch, fraction
_SAME = 0.0011


@dataclass(frozen=True)
class Aim:
    """An aim with exactly one source.

    Attributes
    ----------
    name
        What reports call it.
    profile
        An ICC profile whose relative tables are read absolute, or None.
    data
        Characterization data, or None.
    """

    name: str
    profile: icc.IccProfile | None = None
    data: ReadingSet | None = None

    def lab_for(self, chart: ReadingSet) -> Array:
        """Aim Lab (n, 3), absolute, for the patches of `chart`.

        Data are matched by device values; raises `BadInput` naming a patch the aim does not hold,
        or channels that differ.
        """
        device = chart.values()
        if self.profile is not None:
            if self.profile.channels != len(chart.channels) or self.profile.space != "".join(chart.channels):
                raise BadInput(
                    f"the aim {self.name} is {self.profile.space}, the readings are {'+'.join(chart.channels)}"
                )
            return self.profile.device_to_lab(device)
        assert self.data is not None
        if self.data.channels != chart.channels:
            raise BadInput(
                f"the aim {self.name} is of {'+'.join(self.data.channels)}, the readings are of {'+'.join(chart.channels)}"
            )
        distance, index = cKDTree(self.data.values()).query(device, p=np.inf)
        if distance.max() > _SAME:
            bad = chart.ids[int(np.argmax(distance > _SAME))]
            count = int((distance > _SAME).sum())
            raise BadInput(
                f"the aim {self.name} holds no value for {count} of {len(chart)} patches; the first is {bad}"
            )
        return self.data.lab()[index]


def load(path: str | Path) -> Aim:
    """An aim from a file, ``.icc``, CGATS text, CxF3 or CSV, or by the name ``northlight-coated``."""
    if str(path) == "northlight-coated":
        return Aim("Northlight Coated", data=northlight.aim_data())
    source = Path(path)
    try:
        head = source.open("rb").read(132)
    except OSError as error:
        raise BadInput(f"cannot be read: {error.strerror or error}", source.name) from error
    if icc.is_profile(head):
        return from_profile(icc.read(source), source.name)
    return from_data(readings_file.read(source), source.name)


def from_profile(profile: icc.IccProfile, source: str) -> Aim:
    """An aim from a parsed printer profile."""
    if profile.device_class not in ("prtr", "scnr", "mntr", "spac") or "A2B0" not in profile.tags:
        raise BadInput("this profile has no device-to-Lab table, so it cannot be an aim", source)
    if profile.pcs != "Lab":
        raise BadInput(f"this profile connects through {profile.pcs}; an aim needs Lab", source)
    return Aim(profile.description or source, profile=profile)


def from_data(data: ReadingSet, source: str) -> Aim:
    """An aim from characterization data, which must have device values and colours."""
    if not data.is_measured:
        raise BadInput("the file holds device values only; an aim needs colours", source)
    if data.device is None:
        raise BadInput("the file holds no device values, so its colours cannot be matched to patches", source)
    return Aim(data.meta.get("DESCRIPTOR") or source, data=data)


def substrate_corrected(aim_lab: Array, paper: Array, aim_paper: Array, measured_paper: Array) -> Array:
    """Aim Lab (n, 3) carried onto the shop's paper; `paper` masks unprinted patches among them.

    `aim_paper` and `measured_paper` are Lab (3,). The darkest aim colour stays (tristimulus linear scaling).
    """
    xyz = correct_substrate(lab_to_xyz(aim_lab), lab_to_xyz(aim_paper), lab_to_xyz(measured_paper))
    corrected = xyz_to_lab(xyz)
    corrected[paper] = measured_paper
    return np.asarray(corrected)


def strip_through_profile(
    strip: ReadingSet, aim: Aim, profile: icc.IccProfile, corrected: bool = False
) -> ReadingSet:
    """The device values that print the aim colours of `strip` on the profiled printer, absolute colorimetric.

    With `corrected` the aim is first carried onto the profile's media white, as a substrate-corrected
    check will do with the measured paper.
    """
    if profile.space != "CMYK":
        raise BadInput(f"the strip can be sent through a CMYK profile, not through {profile.space}")
    lab = aim.lab_for(strip)
    if corrected:
        paper = strip.values().max(axis=1) < 1e-6
        if not paper.any():
            raise BadInput("a substrate-corrected print needs an unprinted patch in the strip")
        lab = substrate_corrected(lab, paper, lab[paper].mean(axis=0), xyz_to_lab(100.0 * profile.white))
    return replace(strip, device=profile.lab_to_device(lab, "absolute"))
