"""Density of films by the light they let through, and the dots on them.

D = -log10(T), T being the share of light let through with the geometry of ISO 5-2 (diffuse); *visual* is
weighted as ISO 5-3 does, *UV* is the range 350 to 420 nm, in which plates and emulsions are exposed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput

#: the two densities, in the order in which readings hold them
VISUAL, UV = 0, 1
NAMES = ("visual", "UV")
#: what files and sheets say of them
STATUS = "transmission density, ISO 5-2 diffuse; visual of ISO 5-3; UV 350 to 420 nm"
#: UV density that a solid should have, and below which it is warned about
OPAQUE, THIN = 3.5, 3.0
#: white of D50, XYZ with Y = 1, which light through clear film is shown as
_WHITE = np.array([0.9642, 1.0, 0.8249])
#: densities that an instrument may give
LOWEST, HIGHEST = -0.1, 6.5


def transmittance(density: npt.ArrayLike) -> Array:
    """Share of light let through at transmission densities.

    >>> round(float(transmittance(2.0)), 4)
    0.01
    """
    return np.asarray(10.0 ** -np.asarray(density, dtype=float))


def film_xyz(density: npt.ArrayLike) -> Array:
    """XYZ (n, 3), Y = 100 for nothing in the way, of light that films of visual densities (n,) let through:
    neutral, as ink on film is judged by how much it stops.
    """
    through = np.clip(transmittance(density), 0.0, 1.2)
    return np.asarray(100.0 * through[..., None] * _WHITE)


def dot_percent(density: npt.ArrayLike, film: float, solid: float) -> Array:
    """Dot percent by Murray and Davies from transmission densities, of bare film and of a solid.

    100 (1 - 10^-(Dt - D0)) / (1 - 10^-(Ds - D0)); transmittances add, since a film scatters no light under
    its dots. Raises `BadInput` for a solid that is no denser than the film.

    >>> dot_percent([0.05, 0.3466, 4.05], 0.05, 4.05).round(1).tolist()
    [0.0, 49.5, 100.0]
    """
    if solid - film < 0.3:
        raise BadInput(f"a solid of density {solid:.2f} on film of {film:.2f} is no solid")
    stopped = 1.0 - transmittance(np.asarray(density, dtype=float) - film)
    return np.asarray(100.0 * stopped / (1.0 - float(transmittance(solid - film))))


@dataclass(frozen=True)
class PhysicalDots:
    """Physical dot percent for optical, from pairs that were measured both ways, such as with a microscope.

    Attributes
    ----------
    optical, physical
        Percent (n,), rising, without the ends 0 and 100.
    """

    optical: tuple[float, ...] = ()
    physical: tuple[float, ...] = ()

    @classmethod
    def of(cls, pairs: Sequence[tuple[float, float]]) -> PhysicalDots:
        """From pairs of optical and physical percent in any order; `BadInput` where they do not rise."""
        chosen = sorted((float(o), float(p)) for o, p in pairs)
        optical, physical = tuple(o for o, _ in chosen), tuple(p for _, p in chosen)
        for name, values in (("optical", optical), ("physical", physical)):
            steps = np.diff([0.0, *values, 100.0])
            if (steps <= 0.0).any():
                raise BadInput(
                    f"{name} dots of measured pairs rise from 0 to 100 %; these are "
                    f"{', '.join(f'{v:g}' for v in values)}"
                )
        return cls(optical, physical)

    def of_optical(self, percent: npt.ArrayLike) -> Array:
        """Physical percent of optical percent; the same where no pair was measured."""
        values = np.asarray(percent, dtype=float)
        if not self.optical:
            return values
        known, there = [0.0, *self.optical, 100.0], [0.0, *self.physical, 100.0]
        inside = np.interp(values, known, there)
        return np.where((values < 0.0) | (values > 100.0), values, inside)
