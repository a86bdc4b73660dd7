"""Readings and charts in whatever open format a file has: CGATS text, CxF3 or CSV."""

from __future__ import annotations

from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, csv_table, cxf, cxf_writing
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import ReadingSet

#: format by ending of the file name, for writing
ENDINGS = {".txt": "CGATS", ".cgats": "CGATS", ".cxf": "CxF3", ".xml": "CxF3", ".csv": "CSV"}


def record_type_of(data: bytes) -> str:
    """``CGATS``, ``CxF3`` or ``CSV``, by what the file holds."""
    if cxf.looks_like(data):
        return "CxF3"
    if b"BEGIN_DATA" in data or b"B\0E\0G\0I\0N\0_\0D\0A\0T\0A" in data:
        return "CGATS"
    for line in data[:65536].decode("latin-1").lstrip("\ufeffï»¿").splitlines():
        if line.strip() and not line.startswith("#"):
            found = line.split()[0].upper()
            separated = max(line.count(","), line.count(";"), line.count("\t")) >= 2
            return (
                "CSV" if separated and not found.startswith(("CGATS", "ORIGINATOR", "NUMBER_OF")) else "CGATS"
            )
    return "CGATS"


def loads(data: bytes, source: str = "readings") -> ReadingSet:
    """Parse a file of any of the three formats. Raises `BadInput` that names file, line and reason."""
    if not data.strip():
        raise BadInput("the file is empty", source)
    kind = record_type_of(data)
    return {"CxF3": cxf.loads, "CSV": csv_table.loads, "CGATS": cgats.loads}[kind](data, source)


def read(path: str | Path) -> ReadingSet:
    """Read a file of any of the three formats."""
    return loads(read_limited(path, cgats.MAX_BYTES), Path(path).name)


def dumps(readings: ReadingSet, path: str | Path) -> str:
    """Text of `readings` in the format that the ending of `path` names; `BadInput` for an unknown ending."""
    ending = Path(path).suffix.lower()
    if ending not in ENDINGS:
        raise BadInput(
            f"the ending {ending or '(none)'} names no format; use .txt (CGATS), .cxf or .xml (CxF3) or .csv",
            Path(path).name,
        )
    return {"CxF3": cxf_writing.dumps, "CSV": csv_table.dumps, "CGATS": cgats.dumps}[ENDINGS[ending]](
        readings
    )
