"""Patches as comma-separated values: one line a patch, units in the heading.

Read liberally (comma, semicolon or tab; decimal commas; headings with or without units), written
strictly: ``id, sheet, row, column, C %, ..., X, Y, Z, L*, a*, b*, 380, ..., 730``. Lines that begin
with ``#`` carry ``NAME value`` facts. Device values are percent, spectra 0..1.
"""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

from greyanchor.core import cells
from greyanchor.core.colour.colorimetry import WAVELENGTHS
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import ReadingSet

_PLAIN = {"L": "LAB_L", "A": "LAB_A", "B": "LAB_B", "X": "XYZ_X", "Z": "XYZ_Z"}
_WHERE = {"ID": "SAMPLE_ID", "PATCH": "SAMPLE_ID", "NAME": "SAMPLE_ID", "SAMPLE": "SAMPLE_ID"}


def read(path: str | Path) -> ReadingSet:
    """Read a CSV file; errors name file, line and reason."""
    return loads(read_limited(path, cgats.MAX_BYTES), Path(path).name)


def loads(data: bytes | str, source: str = "readings") -> ReadingSet:
    """Parse CSV text given as bytes or str.

    Raises `BadInput` that names `source`, line and reason.

    >>> found = loads("SAMPLE_ID,CMYK_C,CMYK_M,CMYK_Y,CMYK_K,LAB_L,LAB_A,LAB_B\\n1,0,0,0,0,95,0,-2\\n")
    >>> found.lab().tolist()
    [[95.0, 0.0, -2.0]]
    """
    try:
        return cgats.from_table(_table(data if isinstance(data, str) else cgats.decode(data)))
    except BadInput as error:
        raise error.at(source) from None


def _table(text: str) -> cgats.Table:
    header: dict[str, str] = {}
    numbered: list[tuple[int, str]] = []
    for number, line in enumerate(text.splitlines(), start=1):
        if len(line) > cgats.MAX_LINE:
            raise BadInput(
                f"the line has {len(line)} characters; up to {cgats.MAX_LINE} are taken", line=number
            )
        if line.startswith("#"):
            word, _, value = line[1:].strip().partition(" ")
            header.setdefault(word.upper(), value.strip())
        elif line.strip(" ,;\t"):
            numbered.append((number, line))
    if len(numbered) < 2:
        raise BadInput("a heading and at least one line of values are needed")
    first, heading = numbered[0]
    mark = max("\t;,", key=heading.count)
    if heading.count(mark) == 0:
        raise BadInput("no heading with separated names was found", line=first)
    fields = _fields(next(csv.reader(io.StringIO(heading), delimiter=mark)), first, header)
    lines = []
    for number, line in numbered[1:]:
        parts = [cells.as_meant(p.strip()) for p in next(csv.reader(io.StringIO(line), delimiter=mark))]
        if len(parts) == len(fields) * 2 - 1 and mark == ",":
            raise BadInput("decimal commas need semicolons or tabs between the values", line=number)
        lines.append((number, parts))
    return cgats.Table(header, fields, lines, first)


def _ink(heading: str) -> str:
    """The ink that a heading with a percent sign names; letters alone are written large, other names stay."""
    found = re.match(r"^(.*?)\s*[\[(]?\s*%\s*[\])]?$", heading.strip())
    name = found[1].strip() if found else ""
    return name.upper() if len(name) <= 2 else name


def _fields(names: list[str], line: int, header: dict[str, str]) -> list[str]:
    """CGATS names of the headings; a bare Y is yellow beside M and tristimulus beside X."""
    bare = [re.sub(r"[\s*%()\[\]]", "", n).upper() for n in names]
    inks = [ink for ink in map(_ink, names) if ink]
    cmyk = {"C", "M", "K"} <= set(bare)
    if inks and inks != list("CMYK"):
        header["CHANNELS"] = ", ".join(inks) if len(inks) > 1 else inks[0]
    fields, ink = [], 0
    for i, (name, raw) in enumerate(zip(bare, names)):
        beside = bare[i - 1] if i else ""
        if _ink(raw) and inks != list("CMYK"):
            ink += 1
            fields.append(f"{len(inks)}CLR_{ink}")
        elif cmyk and (name in ("C", "M", "K") or (name == "Y" and beside == "M")):
            fields.append(f"CMYK_{name}")
        elif name == "Y":
            fields.append("XYZ_Y")
        elif name in ("R", "G") or (name == "B" and beside == "G"):
            fields.append(f"RGB_{name}")
        else:
            fields.append(_PLAIN.get(name) or _WHERE.get(name) or name)
    if not any(
        f.startswith(("CMYK_", "RGB_", "LAB_", "XYZ_", "D_")) or "CLR_" in f or f.isdecimal() for f in fields
    ):
        raise BadInput(
            f"none of the headings is a device value, spectrum, XYZ or Lab: {', '.join(names[:6])}", line=line
        )
    return fields


def dumps(readings: ReadingSet) -> str:
    """CSV text of a chart or a reading set, commas and LF."""
    out = io.StringIO()
    for key, value in sorted(readings.meta.items()):
        name = re.sub(r"[^A-Z0-9_]", "_", key.upper())
        out.write(f"# {name} {str(value).replace(chr(10), ' ')}\n")
    if readings.is_measured:
        out.write(f"# MEASUREMENT_CONDITION {readings.condition}\n")
    columns: list[tuple[str, list[str]]] = [("id", list(readings.ids))]
    for name, where in (("sheet", readings.sheets), ("row", readings.rows), ("column", readings.columns)):
        if where is not None:
            columns.append((name, [str(v) for v in where.tolist()]))
    if readings.device is not None:
        rgb = readings.channels == tuple("RGB")
        for i, channel in enumerate(readings.channels):
            values = readings.device[:, i] * (255.0 if rgb else 100.0)
            columns.append((channel if rgb else f"{channel} %", [f"{v:.4f}" for v in values]))
    if readings.densities is not None:
        names = ("D_VIS", "D_UV")
        columns += [(n, [f"{v:.5f}" for v in readings.densities[:, i]]) for i, n in enumerate(names)]
    elif readings.is_measured:
        if readings.spectra is not None or readings.measured_xyz is not None:
            columns += [(n, [f"{v:.5f}" for v in readings.xyz()[:, i]]) for i, n in enumerate("XYZ")]
        columns += [(n, [f"{v:.5f}" for v in readings.lab()[:, i]]) for i, n in enumerate(("L*", "a*", "b*"))]
    if readings.spectra is not None:
        columns += [
            (str(nm), [f"{v:.6f}" for v in readings.spectra[:, i]]) for i, nm in enumerate(WAVELENGTHS)
        ]
    writer = cells.Writer(out, lineterminator="\n")
    writer.writerow([name for name, _ in columns])
    writer.writerows(zip(*[values for _, values in columns]))
    return out.getvalue()
