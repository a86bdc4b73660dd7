"""Densities and tone values."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import D50_WHITE, WAVELENGTHS, Array, xyz_to_lab

#: ISO 5-3 status I: narrow bands, centre wavelength in nm of the filter that sees each channel.
STATUS_I_PEAKS = {"C": 625.0, "M": 535.0, "Y": 430.0}
_STATUS_I_WIDTH = 20.0
_FLOOR = 1e-5


def visual_density(xyz: npt.ArrayLike) -> Array:
    """Neutral (visual) density -log10(Y / 100) of XYZ (..., 3), Y of the perfect diffuser = 100.

    >>> round(float(visual_density([10.0, 10.0, 8.0])), 2)
    1.0
    """
    y = np.asarray(xyz, dtype=float)[..., 1]
    return np.asarray(-np.log10(np.maximum(y / 100.0, _FLOOR)))


def spectral_density(spectra: npt.ArrayLike) -> Array:
    """-log10 of reflectance factors, same shape."""
    return np.asarray(-np.log10(np.maximum(np.asarray(spectra, dtype=float), _FLOOR)))


def peak_band(solid: npt.ArrayLike, paper: npt.ArrayLike) -> int:
    """Index of the band where `solid` (36,) absorbs most over `paper` (36,): a channel's own peak.

    The three shortest bands are left out: brightener and low light make them unsteady.
    """
    gain = spectral_density(solid) - spectral_density(paper)
    return int(np.argmax(gain[3:])) + 3


def peak_density(spectra: npt.ArrayLike, band: int) -> Array:
    """Spectral density (n,) of spectra (n, 36) at one band."""
    return np.asarray(spectral_density(spectra)[..., band])


def status_i_density(spectra: npt.ArrayLike, channel: str) -> Array:
    """ISO 5-3 status I density (n,) of spectra (n, 36) for channel C, M or Y; K uses visual weights.

    The 20 nm wide filter is modelled as a Gaussian over the 10 nm bands.
    """
    values = np.asarray(spectra, dtype=float)
    if channel not in STATUS_I_PEAKS:
        band = np.exp(-0.5 * ((WAVELENGTHS - 555.0) / 45.0) ** 2)
    else:
        sigma = _STATUS_I_WIDTH / 2.355
        band = np.exp(-0.5 * ((WAVELENGTHS - STATUS_I_PEAKS[channel]) / sigma) ** 2)
    seen = values @ (band / band.sum())
    return np.asarray(-np.log10(np.maximum(seen, _FLOOR)))


def sctv(tint: npt.ArrayLike, paper: npt.ArrayLike, solid: npt.ArrayLike) -> Array:
    """Spot colour tone value in percent (ISO 20654) of XYZ tints (..., 3) between `paper` and `solid`
    (3,).

    SCTV = 100 |V(tint) - V(paper)| / |V(solid) - V(paper)| with V = 116 f(T/Tn) - 16 for T in X, Y, Z.

    >>> paper, solid = [85.0, 88.0, 72.0], [15.0, 20.0, 45.0]
    >>> round(float(sctv([45.0, 50.0, 58.0], paper, solid)), 3)
    44.005
    """
    low, high = _tone_coordinates(paper), _tone_coordinates(solid)
    span = float(np.linalg.norm(high - low))
    if span < 1e-9:
        return np.zeros(np.asarray(tint).shape[:-1])
    return np.asarray(100.0 * np.linalg.norm(_tone_coordinates(tint) - low, axis=-1) / span)


def _tone_coordinates(xyz: npt.ArrayLike) -> Array:
    lab = xyz_to_lab(xyz, D50_WHITE)
    fy = (lab[..., 0] + 16.0) / 116.0
    f = np.stack([fy + lab[..., 1] / 500.0, fy, fy - lab[..., 2] / 200.0], axis=-1)
    return np.asarray(116.0 * f - 16.0)
