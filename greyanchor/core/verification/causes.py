"""What can be wrong with a print, as changes of its colours that a model of the strip predicts.

A small Yule-Nielsen Neugebauer model is fitted to what the strip should measure at the ink values it
was printed with. Its derivatives by the tone and the film of each ink, and the changes that another
paper, another measurement condition or a wrong white calibration make, are the shapes that differences
are held against.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.interpolate import PchipInterpolator

from greyanchor.core.characterization import neugebauer
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab

_STEP = 0.01
_LEAST = 1e-4
_GRID = np.linspace(0.0, 1.0, 257)
#: shape of brightener in X, Y and Z: its light lies near 440 nm
_BRIGHT = np.array([0.19, 0.02, 1.0])


@dataclass(frozen=True)
class Shapes:
    """Changes of Lab, flattened to (3 n,), that disturbances of a strip make.

    Attributes
    ----------
    inks
        CMYK fractions (n, 4) that the strip was printed with.
    areas
        Effective area at `_GRID` of each ink (4, points), of the model fitted to the strip.
    light, layers
        XYZ 0..1 of its overprints (16, 3), and what doubling an ink's layer does to their logarithm (4, 16,
        3).
    n
        Its Yule-Nielsen factor.
    base
        The Lab (n, 3) it predicts.
    paper
        (3): X, Y, Z of everything 1 % higher.
    white
        Everything 1 % lighter.
    brightener
        Paper's Z 1 % higher by fluorescence, less where ink lies over it.
    """

    inks: Array
    areas: Array
    light: Array
    layers: Array
    n: float
    base: Array
    paper: Array
    white: Array
    brightener: Array

    def inked(self, amounts: Array) -> Array:
        """The change (3 n,) for amounts (12,) in percent: film, tone and skew of C, M, Y and K.

        Film is the thickness of a layer, its tones rising with it; tone the midtones; skew the shadows
        against the highlights.
        """
        film, tone, skew = (0.01 * amounts[i : i + 4] for i in (0, 4, 8))
        middle = 4.0 * self.inks * (1.0 - self.inks)
        late = 10.4 * self.inks * (1.0 - self.inks) * (2.0 * self.inks - 1.0)
        inks = np.clip(self.inks + (tone + 0.3 * film) * middle + skew * late, 0.0, 1.0)
        area = np.column_stack([np.interp(inks[:, i], _GRID, self.areas[i]) for i in range(4)])
        roots = (self.light * np.exp(np.tensordot(film, self.layers, 1))) ** (1.0 / self.n)
        moved = xyz_to_lab(100.0 * (neugebauer.demichel(area) @ roots) ** self.n)
        return np.asarray(moved - self.base).ravel()


def shapes_of(inks: Array, expected: Array) -> Shapes:
    """Shapes for a strip of CMYK fractions (n, 4) that should measure Lab (n, 3); the last ones are
    remembered.
    """
    return _shapes(np.round(inks, 5).tobytes(), np.round(expected, 3).tobytes())


@lru_cache(maxsize=16)
def _shapes(inks_bytes: bytes, expected_bytes: bytes) -> Shapes:
    inks = np.frombuffer(inks_bytes).reshape(-1, 4)
    expected = np.frombuffer(expected_bytes).reshape(-1, 3)
    xyz = lab_to_xyz(expected)
    model = neugebauer.fit(inks, np.maximum(xyz / 100.0, _LEAST))

    def light(factor: Array) -> Array:
        return (xyz_to_lab(xyz * factor) - expected).ravel()

    paper_z = xyz[inks.max(axis=1) < 0.0005, 2]
    top = float(paper_z.mean()) if len(paper_z) else float(xyz[:, 2].max())
    through = np.clip(xyz[:, 2] / top, 0.0, 1.0) ** 1.6
    brightener = (xyz_to_lab(xyz + _STEP * top * through[:, None] * _BRIGHT) - expected).ravel()
    table = np.array([PchipInterpolator(neugebauer.KNOTS, g)(_GRID) for g in model.gains])
    overprints = np.maximum(model.roots, 1e-6) ** model.n
    return Shapes(
        inks,
        table,
        overprints,
        _layers(overprints),
        model.n,
        xyz_to_lab(100.0 * model.predict(inks)),
        np.array([light(1.0 + _STEP * np.eye(3)[i]) for i in range(3)]),
        light(np.full(3, 1.0 + _STEP)),
        brightener,
    )


def _layers(light: Array) -> Array:
    """Logarithm (4, 16, 3) of what each ink's layer lets through in every overprint that has it, else 0."""
    out = np.zeros((4, *light.shape))
    for channel in range(4):
        for s in range(len(light)):
            if s >> channel & 1:
                out[channel, s] = np.log(np.clip(light[s] / light[s & ~(1 << channel)], 1e-3, 1.0))
    return out
