"""What a file holds, in plain facts: for `greyanchor inspect` and for looking at uploads."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.colour.colorimetry import xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc, readings_file
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import ReadingSet


def inspect_file(path: str | Path) -> dict[str, Any]:
    """Facts about an ICC profile, readings or chart (CGATS, CxF3, CSV), or a curve file."""
    source = Path(path)
    return inspect_bytes(read_limited(source, cgats.MAX_BYTES), source.name)


def inspect_bytes(data: bytes, name: str) -> dict[str, Any]:
    """The same about a file that was sent."""
    if icc.is_profile(data[:4096]):
        return profile_facts(icc.loads(data, name), len(data))
    if data.lstrip(b"\xef\xbb\xbf").startswith((b"channel,input,output", b'{"curves"')):
        text = cgats.decode(data)
        curves = CurveSet.from_json(text, name) if text.startswith("{") else CurveSet.from_csv(text, name)
        return {
            "kind": "curves",
            "channels": list(curves.channels),
            "limits": {c: 100 * v for c, v in curves.limits.items()},
        }
    return {**readings_facts(readings_file.loads(data, name)), "format": readings_file.record_type_of(data)}


def profile_facts(profile: icc.IccProfile, size: int) -> dict[str, Any]:
    """Header, white and tags of a profile."""
    facts: dict[str, Any] = {
        "kind": "profile",
        "description": profile.description,
        "version": "{}.{}".format(*profile.version),
        "class": profile.device_class,
        "space": profile.space,
        "pcs": profile.pcs,
        "created": profile.created,
        "bytes": size,
        "profile_id": profile.profile_id,
        "tags": list(profile.tags),
    }
    if "wtpt" in profile.tags:
        facts["white_lab"] = [round(float(v), 2) for v in xyz_to_lab(100.0 * profile.white)]
    tables = {}
    for name in ("A2B0", "A2B1", "A2B2", "B2A0", "B2A1", "B2A2", "gamt"):
        if name in profile.tags:
            tables[name] = "x".join(str(s) for s in profile.lut(name)[0].grid.shape[:-1])
    facts["tables"] = tables
    if "targ" in profile.tags:
        text = icc.tag_text(profile.tags["targ"])
        try:
            facts["characterization_patches"] = len(cgats.loads(text, "targ"))
        except BadInput:
            facts["characterization_patches"] = None
    return facts


def readings_facts(readings: ReadingSet) -> dict[str, Any]:
    """Size, channels, kind of values and header of a CGATS file."""
    holds = "device values only"
    if readings.spectra is not None:
        holds = "spectra"
    elif readings.measured_xyz is not None:
        holds = "XYZ"
    elif readings.measured_lab is not None:
        holds = "Lab"
    facts: dict[str, Any] = {
        "kind": "readings" if readings.is_measured else "chart",
        "patches": len(readings),
        "channels": list(readings.channels),
        "values": holds,
        "rows": int(readings.rows.max()) if readings.rows is not None else None,
        "sheets": int(readings.sheets.max()) if readings.sheets is not None else None,
        "header": dict(readings.meta),
    }
    if readings.is_measured:
        facts["condition"] = readings.condition
    if readings.device is not None:
        facts["largest_total_ink"] = round(float(100.0 * readings.device.sum(axis=1).max()), 2)
        paper = readings.device.max(axis=1) < 1e-6
        if readings.is_measured and paper.any():
            facts["paper_lab"] = [round(float(v), 2) for v in readings.lab()[paper].mean(axis=0)]
    return facts
