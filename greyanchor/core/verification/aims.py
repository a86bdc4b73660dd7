"""Aims: what a print should measure, from an ICC profile or from characterization data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.spatial import cKDTree

from greyanchor.core.calibration import g7
from greyanchor.core.colour.colorimetry import Array, correct_substrate, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc, readings_file
from greyanchor.core.formats.cgats import MAX_BYTES
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.generic_aims import GENERIC_AIMS, aim_data
from greyanchor.core.verification.interpolation import SAME
from greyanchor.core.verification.spot_files import from_csv, from_readings
from greyanchor.core.verification.spots import USUAL_PAPER, SpotColour, tint_of


@dataclass(frozen=True)
class Aim:
    """An aim: an ICC profile or characterization data, spot colours, or both.

    Attributes
    ----------
    name
        What reports call it.
    profile
        An ICC profile whose relative tables are read absolute, or None.
    data
        Characterization data, or None.
    spots
        Aims of spot colours by name; patches that carry such a name are held to them.
    filled
        Patches that the data lack, interpolated through a model of the data, or None.
    """

    name: str
    profile: icc.IccProfile | None = None
    data: ReadingSet | None = None
    spots: Mapping[str, SpotColour] = field(default_factory=dict)
    filled: ReadingSet | None = None

    @property
    def condition(self) -> str:
        """Measurement condition that the aim was made for; empty where it does not say."""
        return self.data.condition if self.data is not None else ""

    @cached_property
    def gives_greys(self) -> bool:
        """Whether the aim is data whose own grey scales are G7 grey: then they are the exact aim of grey
        balance.
        """
        if self.data is None or self.data.device is None or self.data.channels != tuple("CMYK"):
            return False
        return g7.is_grey(self.data.device, self.data.lab())

    @cached_property
    def darkest(self) -> Array:
        """Darkest X, Y and Z (3,) of the whole aim, each for itself; Y = 100 for the perfect diffuser.

        Of a profile all nodes of its table count, of data all patches.
        """
        if self.data is not None:
            return np.asarray(self.data.xyz().min(axis=0))
        if self.profile is not None:
            return np.asarray(lab_to_xyz(self.profile.table_lab()).min(axis=0))
        return np.zeros(3)

    def lab_for(self, chart: ReadingSet) -> Array:
        """Aim Lab (n, 3), absolute, for the patches of `chart`.

        Raises `BadInput` naming a patch the aim does not hold, or channels that differ.
        """
        lab = self.lab_where_known(chart)
        unknown = np.isnan(lab[:, 0])
        if unknown.any():
            first = int(np.argmax(unknown))
            device = chart.device
            inks = (
                ""
                if device is None
                else " (" + " ".join(f"{c} {100 * v:g}" for c, v in zip(chart.channels, device[first])) + ")"
            )
            raise BadInput(
                f"the aim {self.name} holds no value for {int(unknown.sum())} of {len(chart)} patches; the "
                f"first is {chart.ids[first]}{inks}"
            )
        return lab

    def spot_names(self, chart: ReadingSet) -> tuple[str, ...]:
        """For each patch the spot colour (and tint) of this aim that it shows; empty text for process
        colours.
        """
        found = chart.names or (chart.ids if chart.device is None else ("",) * len(chart))
        known = {name.lower(): name for name in self.spots}
        out = []
        for text in found:
            name, tint = tint_of(text)
            match = known.get(name.lower(), "")
            out.append("" if not match else match if tint >= 100 else f"{match} {tint:g} %")
        return tuple(out)

    def lab_where_known(self, chart: ReadingSet) -> Array:
        """Aim Lab (n, 3) of the patches of `chart`, NaN for those that the aim does not know.

        Raises `BadInput` when aim and chart have nothing to do with each other.
        """
        out = np.full((len(chart), 3), np.nan)
        if chart.device is not None and (self.profile is not None or self.data is not None):
            out = self._by_device(chart)
        elif chart.device is None and not self.spots:
            chart.values()  # says that there are no device values
        paper = self._paper(chart, out)
        for i, text in enumerate(self.spot_names(chart)):
            if text:
                name, tint = tint_of(text)
                out[i] = self.spots[name].aim(tint, paper)
        return out

    def _paper(self, chart: ReadingSet, lab: Array) -> Array:
        if chart.device is not None:
            bare = chart.inks().max(axis=1) < 1e-6
            if bare.any() and not np.isnan(lab[bare]).any():
                return np.asarray(lab[bare].mean(axis=0))
        return np.array(USUAL_PAPER)

    def _by_device(self, chart: ReadingSet) -> Array:
        device = chart.values()
        if self.profile is not None:
            if self.profile.channels != len(chart.channels) or self.profile.space != "".join(chart.channels):
                raise BadInput(
                    f"the aim {self.name} is {self.profile.space}, the readings are "
                    f"{'+'.join(chart.channels)}"
                )
            return self.profile.device_to_lab(device)
        assert self.data is not None
        if self.data.channels != chart.channels:
            raise BadInput(
                f"the aim {self.name} is of {'+'.join(self.data.channels)}, the readings are of "
                f"{'+'.join(chart.channels)}"
            )
        lab = _held(self.data, device)
        if self.filled is not None:
            lacks = np.isnan(lab[:, 0])
            lab[lacks] = _held(self.filled, device[lacks])
        return lab

    def interpolated(self, chart: ReadingSet) -> npt.NDArray[np.bool_]:
        """Which patches of `chart` (n,) the aim's own data lack, so that their aim is interpolated."""
        if self.filled is None or self.data is None or chart.device is None:
            return np.zeros(len(chart), dtype=bool)
        return np.isnan(_held(self.data, chart.values())[:, 0])


def _held(data: ReadingSet, device: Array) -> Array:
    """Lab (n, 3) of the device values (n, channels) in the data, NaN where they are not among them."""
    if not len(device):
        return np.zeros((0, 3))
    distance, index = cKDTree(data.values()).query(device, p=np.inf)
    lab = np.array(data.lab()[index])
    lab[distance > SAME] = np.nan
    return lab


def load(path: str | Path) -> Aim:
    """An aim from a file, ``.icc``, CGATS text, CxF3 or CSV, or by the name of a generic one.

    Raises `BadInput` for a file that cannot be read or is no aim.
    """
    if str(path) in GENERIC_AIMS:
        return Aim(GENERIC_AIMS[str(path)].title, data=aim_data(str(path)))
    source = Path(path)
    try:
        head = source.open("rb").read(132)
    except OSError as error:
        raise BadInput(f"cannot be read: {error.strerror or error}", source.name) from error
    if icc.is_profile(head):
        return from_profile(icc.read(source), source.name)
    return loads(read_limited(source, MAX_BYTES), source.name)


def loads(data: bytes, source: str) -> Aim:
    """An aim from the bytes of a file: a profile, characterization data, or a list of spot colours."""
    if icc.is_profile(data[:132]):
        return from_profile(icc.loads(data, source), source)
    if source.lower().endswith(".csv") and _is_spot_list(data):
        spots = from_csv(cgats.decode(data), source)
        return Aim(Path(source).stem, spots=spots)
    return from_data(readings_file.loads(data, source), source)


def _is_spot_list(data: bytes) -> bool:
    """Whether the first line of a table names a name and Lab, and no channel of a printer."""
    head = data.split(b"\n", 1)[0].decode("utf-8-sig", "replace").lower()
    words = {
        w.strip(' "*\r') for part in head.replace(";", ",").replace("\t", ",").split(",") for w in [part]
    }
    return bool(words & {"name", "spot", "colour", "color"}) and not words & {"cmyk_c", "c", "k", "rgb_r"}


def from_profile(profile: icc.IccProfile, source: str) -> Aim:
    """An aim from a parsed printer profile.

    Raises `BadInput` for a profile without a device-to-Lab table.
    """
    if profile.device_class not in ("prtr", "scnr", "mntr", "spac") or "A2B0" not in profile.tags:
        raise BadInput("this profile has no device-to-Lab table, so it cannot be an aim", source)
    if profile.pcs != "Lab":
        raise BadInput(f"this profile connects through {profile.pcs}; an aim needs Lab", source)
    return Aim(profile.description or source, profile=profile)


def from_data(data: ReadingSet, source: str) -> Aim:
    """An aim from characterization data: device values with colours, named spot colours, or both.

    Raises `BadInput` for data without colours, or with nothing to match patches by.
    """
    if not data.is_measured:
        raise BadInput("the file holds device values only; an aim needs colours", source)
    name = data.meta.get("DESCRIPTOR") or source
    if data.device is None and data.names is None and all(i.isdecimal() for i in data.ids):
        raise BadInput(
            "the file holds no device values, and no names, so its colours cannot be matched to patches",
            source,
        )
    try:
        spots = from_readings(data)
    except BadInput as error:
        raise error.at(source) from None
    return Aim(name, data=data if data.device is not None else None, spots=spots)


def of_places(readings: ReadingSet) -> Aim:
    """The aim of a uniformity check: for every colour the mean (of XYZ) of its places on the sheet.

    Raises `BadInput` unless a colour stands in three places or more.
    """
    device = readings.values()
    _, first, group, count = np.unique(
        np.round(device, 4), axis=0, return_index=True, return_inverse=True, return_counts=True
    )
    group = group.reshape(-1)
    if count.max() < 3:
        raise BadInput("no colour stands in three places of the sheet or more; print the uniformity chart")
    xyz = readings.xyz()
    mean = np.stack([np.bincount(group, xyz[:, k]) / count for k in range(3)], axis=1)
    data = replace(
        readings.select(first),
        spectra=None,
        measured_xyz=mean,
        measured_lab=None,
        rows=None,
        columns=None,
        sheets=None,
    )
    return Aim("mean of the places of each colour", data=data)


def substrate_corrected(
    aim_lab: Array, paper: Array, aim_paper: Array, measured_paper: Array, darkest: Array
) -> Array:
    """Aim Lab (n, 3) carried onto the shop's paper; `paper` masks unprinted patches among them.

    `aim_paper` and `measured_paper` are Lab (3,). `darkest` is XYZ (3,), the darkest X, Y and Z of the whole
    aim, which stay (tristimulus linear scaling).
    """
    xyz = correct_substrate(lab_to_xyz(aim_lab), lab_to_xyz(aim_paper), lab_to_xyz(measured_paper), darkest)
    corrected = xyz_to_lab(xyz)
    corrected[paper] = measured_paper
    return np.asarray(corrected)


def strip_through_profile(
    strip: ReadingSet, aim: Aim, profile: icc.IccProfile, corrected: bool = False
) -> ReadingSet:
    """The device values, of the profile's own channels, that print the aim colours of a C M Y K `strip` on
    the profiled printer, absolute colorimetric: one with further inks, or driven by R G B, as well.

    With `corrected` the aim is first carried onto the profile's media white, as a substrate-corrected
    check will do with the measured paper.

    Raises `BadInput` for a profile without a way from colour to device, and with `corrected` for a strip
    without bare paper.
    """
    lab = aim.lab_for(strip)
    if corrected:
        paper = strip.values().max(axis=1) < 1e-6
        if not paper.any():
            raise BadInput("a substrate-corrected print needs an unprinted patch in the strip")
        white = xyz_to_lab(100.0 * profile.white)
        lab = substrate_corrected(lab, paper, lab[paper].mean(axis=0), white, aim.darkest)
    return replace(strip, channels=profile.inks, device=profile.lab_to_device(lab, "absolute"))


def grey_anchors(readings: ReadingSet) -> Aim:
    """The published anchors of CGATS TR 015 on this print's own paper and maxima; other patches are their own
    aim.

    Raises `BadInput` when the grey scales lack paper or a 100 % step.
    """
    device, measured = readings.values(), readings.lab()
    if readings.channels != tuple("CMYK"):
        raise BadInput(f"grey scales are of C, M, Y and K, not of {'+'.join(readings.channels)}")
    g7.grey_aim(device, measured)
    target = g7.aim_lab(device, measured)
    lab = np.where(np.isnan(target), measured, target)
    data = replace(readings, spectra=None, measured_xyz=None, measured_lab=lab, names=None)
    return Aim("published grey anchors, CGATS TR 015", data=data)


def with_spots(aim: Aim, spots: Mapping[str, SpotColour]) -> Aim:
    """`aim` that knows these spot colours as well; those it has itself give way."""
    return replace(aim, spots={**aim.spots, **spots})
