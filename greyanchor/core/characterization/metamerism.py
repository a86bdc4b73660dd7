"""Which colours that match under one light part company under others, and by how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from greyanchor.core.characterization.model import ForwardModel
from greyanchor.core.colour.colorimetry import (
    Array,
    delta_e_2000,
    lab_to_xyz,
    spectra_to_xyz,
    white_point,
    xyz_to_lab,
)
from greyanchor.core.colour.illuminants import Light, light_name
from greyanchor.core.errors import BadInput


@dataclass(frozen=True)
class Coloured:
    """Colours with what they reflect.

    Attributes
    ----------
    names
        One each.
    spectra
        Reflectance (n, 36).
    lab
        Under D50 (n, 3), where it is known better than from the spectra: what a model corrected by its
        readings says. Every light is then corrected by the same shares of X, Y and Z.
    """

    names: tuple[str, ...]
    spectra: Array
    lab: Array | None = field(default=None)

    def __post_init__(self) -> None:
        if self.spectra.ndim != 2 or len(self.spectra) != len(self.names):
            raise BadInput("colours under other lights need a spectrum each")

    def xyz(self, light: Light) -> Array:
        """X, Y, Z (n, 3) under a light."""
        seen = spectra_to_xyz(self.spectra, light)
        if self.lab is None:
            return seen
        return np.asarray(seen * lab_to_xyz(self.lab) / np.maximum(spectra_to_xyz(self.spectra), 1e-6))

    def under(self, light: Light) -> Array:
        """Lab (n, 3) under a light, relative to its own white."""
        return xyz_to_lab(self.xyz(light), white_point(light))

    def part(self, which: npt.ArrayLike) -> Coloured:
        """Some of them."""
        at = np.asarray(which, dtype=int)
        lab = None if self.lab is None else self.lab[at]
        return Coloured(tuple(self.names[i] for i in at), self.spectra[at], lab)


def printed(model: ForwardModel, device: Array, names: Sequence[str]) -> Coloured:
    """What a model says ink values (n, channels) print. `BadInput` for a model without spectra."""
    bands = model.prior.predict(device)
    if bands.shape[1] != 36:
        raise BadInput(
            "the profile was built from Lab or XYZ, without spectra: what it prints is known under D50 alone"
        )
    return Coloured(tuple(names), np.asarray(bands), model.lab(device))


@dataclass(frozen=True)
class Parting:
    """Two sets of colours under several lights.

    Attributes
    ----------
    names
        Of the pairs (n).
    lights
        Names; the first is the one they are meant to match under.
    differences
        dE00 (n, lights).
    matched
        dE00 (n, lights) once the second is carried onto the first under the first light by shares of X, Y
        and Z (CIE 15, multiplicative correction): what is left is metamerism alone.
    """

    names: tuple[str, ...]
    lights: tuple[str, ...]
    differences: Array
    matched: Array

    @property
    def worst_light(self) -> int:
        """Position of the light under which they part the furthest in the mean."""
        return int(self.matched.mean(axis=0).argmax())

    def worst(self, count: int) -> list[int]:
        """Pairs that part the furthest under any light, the worst first."""
        return [int(i) for i in np.argsort(-self.matched.max(axis=1), kind="stable")[:count]]


def part_company(first: Coloured, second: Coloured, lights: Sequence[Light]) -> Parting:
    """Pairs, one by one, under lights, of which the first is the one that they are meant to match under.

    Raises `BadInput` where the two are not of one length or there is no light.
    """
    if len(first.names) != len(second.names) or not first.names:
        raise BadInput("there are no pairs of colours to compare")
    if not lights:
        raise BadInput("choose a light")
    share = first.xyz(lights[0]) / np.maximum(second.xyz(lights[0]), 1e-6)
    differences, matched = [], []
    for light in lights:
        here, there = first.xyz(light), second.xyz(light)
        white = white_point(light)
        lab = xyz_to_lab(here, white)
        differences.append(delta_e_2000(lab, xyz_to_lab(there, white)))
        matched.append(delta_e_2000(lab, xyz_to_lab(there * share, white)))
    return Parting(
        first.names,
        tuple(light_name(light) for light in lights),
        np.stack(differences, axis=1),
        np.stack(matched, axis=1),
    )
