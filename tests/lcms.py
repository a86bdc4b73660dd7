"""lcms2 in double precision, as an independent reader of our profiles.

Pillow carries lcms2 but offers 8 bits only; its bundled library (or the system's) is called directly.
"""

from __future__ import annotations

import ctypes
import ctypes.util
from functools import lru_cache
from pathlib import Path

import numpy as np
import PIL

_LAB_DBL = (1 << 22) | (10 << 16) | (3 << 3)
#: lcms2's numbers for pixel types: GRAY 3, RGB 4, CMYK 6, MCH5.. 19..
_PIXELS = {1: 3, 3: 4, 4: 6, 5: 19, 6: 20, 7: 21, 8: 22}
INTENTS = {"perceptual": 0, "relative": 1, "saturation": 2, "absolute": 3}
NO_OPTIMIZE, NO_CACHE, BLACK_POINT = 0x0100, 0x0040, 0x2000


@lru_cache(maxsize=1)
def _library() -> ctypes.CDLL:
    bundled = sorted((Path(PIL.__file__).parent.parent / "pillow.libs").glob("liblcms2*"))
    name = str(bundled[0]) if bundled else ctypes.util.find_library("lcms2")
    if not name:
        raise RuntimeError("lcms2 was not found, neither with Pillow nor on the system")
    lib = ctypes.CDLL(name)
    lib.cmsOpenProfileFromMem.restype = ctypes.c_void_p
    lib.cmsOpenProfileFromMem.argtypes = [ctypes.c_char_p, ctypes.c_uint32]
    lib.cmsCreateLab4Profile.restype = ctypes.c_void_p
    lib.cmsCreateLab4Profile.argtypes = [ctypes.c_void_p]
    lib.cmsCreateTransform.restype = ctypes.c_void_p
    lib.cmsCreateTransform.argtypes = [
        ctypes.c_void_p,
        ctypes.c_uint32,
        ctypes.c_void_p,
        ctypes.c_uint32,
        ctypes.c_uint32,
        ctypes.c_uint32,
    ]
    lib.cmsDoTransform.argtypes = [ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_uint32]
    for name in ("cmsDeleteTransform", "cmsCloseProfile"):
        getattr(lib, name).argtypes = [ctypes.c_void_p]
    lib.cmsIsTag.argtypes = [ctypes.c_void_p, ctypes.c_uint32]
    return lib


def _device_format(channels: int) -> int:
    return (1 << 22) | (_PIXELS[channels] << 16) | (channels << 3)


def _run(
    profile: bytes,
    values: np.ndarray,
    channels: int,
    from_device: bool,
    intent: str,
    compensated: bool = False,
) -> np.ndarray:
    lib = _library()
    ours = lib.cmsOpenProfileFromMem(profile, len(profile))
    if not ours:
        raise ValueError("lcms2 does not take this profile")
    lab = lib.cmsCreateLab4Profile(None)
    device = (ours, _device_format(channels))
    first, second = (device, (lab, _LAB_DBL)) if from_device else ((lab, _LAB_DBL), device)
    flags = NO_OPTIMIZE | NO_CACHE | (BLACK_POINT if compensated else 0)
    transform = lib.cmsCreateTransform(*first, *second, INTENTS[intent], flags)
    if not transform:
        raise ValueError(f"lcms2 makes no {intent} transform for {channels} channels")
    given = np.ascontiguousarray(values, dtype=float)
    out = np.empty((len(given), 3 if from_device else channels))
    lib.cmsDoTransform(transform, given.ctypes.data, out.ctypes.data, len(given))
    for close, handle in (
        (lib.cmsDeleteTransform, transform),
        (lib.cmsCloseProfile, ours),
        (lib.cmsCloseProfile, lab),
    ):
        close(handle)
    return out


def _scale(channels: int) -> float:
    """Floating-point ink is percent for lcms2; light (RGB, grey) is a fraction."""
    return 1.0 if channels in (1, 3) else 100.0


def device_to_lab(profile: bytes, device: np.ndarray, intent: str = "absolute") -> np.ndarray:
    """Lab (n, 3) that lcms2 reads for device fractions (n, channels)."""
    channels = np.shape(device)[1]
    return _run(profile, _scale(channels) * np.asarray(device), channels, True, intent)


def lab_to_device(
    profile: bytes, lab: np.ndarray, intent: str = "absolute", channels: int = 4, compensated: bool = False
) -> np.ndarray:
    """Device fractions (n, channels) that lcms2 reads for Lab (n, 3), with black point compensation if
    wanted.
    """
    return _run(profile, lab, channels, False, intent, compensated) / _scale(channels)


#: lcms2's numbers for pixel types with what an 8-bit and a 16-bit sample is
_SAMPLE = {np.dtype(np.uint8): 1, np.dtype(np.uint16): 2}


class Link:
    """Pixels of one profile to pixels of another, 8 or 16 bits, as any other program would do it."""

    def __init__(
        self,
        source: bytes | None,
        target: bytes,
        channels: tuple[int, int],
        intent: str = "relative",
        compensated: bool = True,
        bits: int = 16,
        exact: bool = True,
    ) -> None:
        lib = _library()
        lib.cmsCreate_sRGBProfile.restype = ctypes.c_void_p
        self._profiles = [
            lib.cmsOpenProfileFromMem(source, len(source)) if source else lib.cmsCreate_sRGBProfile(),
            lib.cmsOpenProfileFromMem(target, len(target)),
        ]
        if not all(self._profiles):
            raise ValueError("lcms2 does not take this profile")
        self._kind = np.dtype(np.uint8 if bits == 8 else np.uint16)
        forms = [(_PIXELS[n] << 16) | (n << 3) | _SAMPLE[self._kind] for n in channels]
        flags = (NO_OPTIMIZE | NO_CACHE if exact else 0) | (BLACK_POINT if compensated else 0)
        self._transform = lib.cmsCreateTransform(
            self._profiles[0], forms[0], self._profiles[1], forms[1], INTENTS[intent], flags
        )
        if not self._transform:
            raise ValueError(f"lcms2 makes no {intent} transform for {channels} channels")
        self._channels = channels

    def __call__(self, pixels: np.ndarray) -> np.ndarray:
        """Pixels (n, channels out) of pixels (n, channels in)."""
        given = np.ascontiguousarray(pixels, dtype=self._kind)
        out = np.empty((len(given), self._channels[1]), dtype=self._kind)
        _library().cmsDoTransform(self._transform, given.ctypes.data, out.ctypes.data, len(given))
        return out

    def close(self) -> None:
        _library().cmsDeleteTransform(self._transform)
        for profile in self._profiles:
            _library().cmsCloseProfile(profile)
