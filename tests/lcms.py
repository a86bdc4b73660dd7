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
_CMYK_DBL = (1 << 22) | (6 << 16) | (4 << 3)
_FORMATS = {"Lab": _LAB_DBL, "CMYK": _CMYK_DBL}
INTENTS = {"perceptual": 0, "relative": 1, "saturation": 2, "absolute": 3}
NO_OPTIMIZE, NO_CACHE = 0x0100, 0x0040


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


def _run(profile: bytes, values: np.ndarray, source: str, target: str, intent: str) -> np.ndarray:
    lib = _library()
    ours = lib.cmsOpenProfileFromMem(profile, len(profile))
    if not ours:
        raise ValueError("lcms2 does not take this profile")
    lab = lib.cmsCreateLab4Profile(None)
    first, second = (ours, lab) if source == "CMYK" else (lab, ours)
    transform = lib.cmsCreateTransform(
        first, _FORMATS[source], second, _FORMATS[target], INTENTS[intent], NO_OPTIMIZE | NO_CACHE
    )
    if not transform:
        raise ValueError(f"lcms2 makes no {intent} transform from {source} to {target}")
    given = np.ascontiguousarray(values, dtype=float)
    out = np.empty((len(given), 4 if target == "CMYK" else 3))
    lib.cmsDoTransform(transform, given.ctypes.data, out.ctypes.data, len(given))
    for close, handle in (
        (lib.cmsDeleteTransform, transform),
        (lib.cmsCloseProfile, ours),
        (lib.cmsCloseProfile, lab),
    ):
        close(handle)
    return out


def device_to_lab(profile: bytes, device: np.ndarray, intent: str = "absolute") -> np.ndarray:
    """Lab (n, 3) that lcms2 reads for CMYK fractions (n, 4)."""
    return _run(profile, 100.0 * np.asarray(device), "CMYK", "Lab", intent)


def lab_to_device(profile: bytes, lab: np.ndarray, intent: str = "absolute") -> np.ndarray:
    """CMYK fractions (n, 4) that lcms2 reads for Lab (n, 3)."""
    return _run(profile, lab, "Lab", "CMYK", intent) / 100.0
