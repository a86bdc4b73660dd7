"""CGATS.17 / ISO 28178 text: read liberally, written strictly.

Device values are percent in the file and fractions in memory; spectra are written 0..1.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array, resample_spectra
from greyanchor.core.colour.transmission import HIGHEST, LOWEST, STATUS
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import TRANSMISSION, ReadingSet

MAX_BYTES = 32 * 1024 * 1024
MAX_LINE = 20_000
_SPECTRAL = re.compile(r"^(?:SPECTRAL|SPECTRUM|SPEC|R|NM|REFL)?_?(?:NM|R)?_?(\d{3})(?:[.,]0+)?(?:_?NM)?$")
_NCLR = re.compile(r"^(\d)CLR_(\d+)$")
_CONDITION = re.compile(r"\bM([0-3])\b")
_ID_FIELDS = ("SAMPLE_ID", "SAMPLEID", "ID", "SAMPLE_NAME", "SAMPLE_LOC", "STRING", "SAMPLE")
#: what a header calls the one density that a file of films has
DENSITY_KIND = "DENSITY_KIND"
#: fields of transmission densities
_D_VISUAL, _D_UV = ("D_VIS", "D_VISUAL", "DENSITY"), ("D_UV",)
#: stands for an empty name, because fields of CGATS text are never empty
_NO_NAME = "-"
#: inks by their usual letters for nCLR files that do not name them
_NCLR_NAMES = ("C", "M", "Y", "K", "O", "G", "V", "R")


@dataclass(frozen=True)
class Table:
    """Header, field names and lines (with their numbers) of a file of patches, before they are understood."""

    header: dict[str, str]
    fields: list[str]
    lines: list[tuple[int, list[str]]]
    fields_line: int


def read(path: str | Path) -> ReadingSet:
    """Read a CGATS file; errors name file, line and reason."""
    return loads(read_limited(path, MAX_BYTES), Path(path).name)


def loads(data: bytes | str, source: str = "readings") -> ReadingSet:
    """Parse CGATS text given as bytes (UTF-8 with or without BOM, UTF-16 with BOM, Latin-1) or str.

    Raises `BadInput` that names `source`, line and reason.
    """
    try:
        table = _tokenize(data if isinstance(data, str) else decode(data))
        return from_table(table)
    except BadInput as error:
        raise error.at(source) from None


def decode(data: bytes) -> str:
    """Text of UTF-8 with or without BOM, UTF-16 with BOM, or Latin-1; `BadInput` for anything binary."""
    if not data.strip():
        raise BadInput("the file is empty")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return data.decode("utf-16")
        except UnicodeDecodeError as error:
            raise BadInput("the file is not readable as UTF-16 text") from error
    if b"\0" in data[:4096]:
        raise BadInput("this is a binary file, not text with patches")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _split(line: str) -> list[str]:
    if "\t" in line:
        return [
            part.strip().strip('"')
            for part in next(csv.reader(io.StringIO(line.strip("\r\n")), delimiter="\t"))
        ]
    return next(csv.reader(io.StringIO(" ".join(line.split())), delimiter=" "))


def _tokenize(text: str) -> Table:
    header: dict[str, str] = {}
    fields: list[str] = []
    lines: list[tuple[int, list[str]]] = []
    fields_line = 0
    state, done = "header", False
    for number, raw in enumerate(text.splitlines(), start=1):
        if len(raw) > MAX_LINE:
            raise BadInput(f"the line has {len(raw)} characters; up to {MAX_LINE} are taken", line=number)
        line = raw.strip()
        if not line or (line.startswith("#") and state != "data"):
            continue
        key = line.split()[0].upper()
        if key == "BEGIN_DATA_FORMAT":
            if done:
                break
            state, fields_line = "fields", number
        elif key == "END_DATA_FORMAT":
            state = "header"
        elif key == "BEGIN_DATA":
            if not fields:
                raise BadInput("the data begin before any BEGIN_DATA_FORMAT names their fields", line=number)
            state = "data"
        elif key == "END_DATA":
            state, done = "header", True
        elif state == "fields":
            fields += [name.upper() for name in _split(raw.strip("\r\n")) if name]
        elif state == "data":
            lines.append((number, _split(raw)))
        elif not done:
            word, _, rest = line.partition("\t") if "\t" in line else line.partition(" ")
            name, value = word.upper(), rest.strip().strip('"')
            if name == "KEYWORD":
                continue
            header.setdefault(name, value)
    if not fields:
        raise BadInput("this is not CGATS text: no BEGIN_DATA_FORMAT was found")
    if state == "data":
        raise BadInput(
            "the file stops in the middle of its data: END_DATA is missing",
            line=lines[-1][0] if lines else None,
        )
    if not lines:
        raise BadInput("the file has no data between BEGIN_DATA and END_DATA")
    return Table(header, fields, lines, fields_line)


def from_table(table: Table) -> ReadingSet:
    """What the fields and lines say, as a `ReadingSet`; `BadInput` names line and reason."""
    width = len(table.fields)
    for number, parts in table.lines:
        if len(parts) != width:
            raise BadInput(f"{len(parts)} values, but the format names {width} fields", line=number)
    repeated = sorted({name for name in table.fields if table.fields.count(name) > 1})
    if repeated:
        raise BadInput(f"the field {repeated[0]} is named more than once", line=table.fields_line)
    declared = table.header.get("NUMBER_OF_SETS", "")
    if declared.isdecimal() and int(declared) != len(table.lines):
        raise BadInput(
            (
                f"NUMBER_OF_SETS says {declared}, but there are {len(table.lines)} lines of data; the "
                "file may "
                "be cut off"
            ),
            line=table.lines[-1][0],
        )
    index = {name: i for i, name in enumerate(table.fields)}
    channels, device = _device(table, index)
    spectra = _spectra(table, index)
    xyz = _triplet(table, index, ("XYZ_X", "XYZ_Y", "XYZ_Z"))
    lab = _triplet(table, index, ("LAB_L", "LAB_A", "LAB_B"))
    films = _films(table, index) if spectra is None and xyz is None and lab is None else None
    if spectra is not None:
        xyz = lab = None
    if xyz is not None:
        _check_range(table, xyz, -1.0, 200.0, "XYZ")
        lab = None
    if lab is not None:
        _check_range(table, lab[:, :1], -1.0, 130.0, "L*")
        _check_range(table, lab[:, 1:], -200.0, 200.0, "a* or b*")
    if all(values is None for values in (device, spectra, xyz, lab, films)):
        raise BadInput("no field of device values, spectra, XYZ or Lab was found", line=table.fields_line)
    ids = _ids(table, index)
    where = {
        key: _integers(table, index, name)
        for key, name in (("sheets", "SHEET"), ("rows", "ROW"), ("columns", "COLUMN"))
    }
    skip = {"NUMBER_OF_SETS", "NUMBER_OF_FIELDS"}
    return ReadingSet(
        ids=ids,
        channels=channels,
        device=device,
        spectra=spectra,
        measured_xyz=xyz,
        measured_lab=lab,
        densities=films,
        condition=TRANSMISSION if films is not None else _condition(table.header),
        meta={k: v for k, v in table.header.items() if v and k not in skip},
        names=_names(table, index),
        **where,
    )


def _number(text: str, line: int, field: str) -> float:
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        raise BadInput(f"{field}: {text!r} is not a number", line=line) from None
    if not np.isfinite(value):
        raise BadInput(f"{field}: {text!r} is not a finite number", line=line)
    return value


def _columns(table: Table, positions: Sequence[int]) -> Array:
    """Numbers of some fields, shape (n, len(positions)); only the failing ones are reported one by one."""
    try:
        values = np.array(
            [[parts[p].replace(",", ".") for p in positions] for _, parts in table.lines], dtype=float
        )
    except ValueError:
        values = np.array([[np.nan]])
    if np.isfinite(values).all():
        return values
    return np.array(
        [[_number(parts[p], number, table.fields[p]) for p in positions] for number, parts in table.lines]
    )


def _check_range(table: Table, values: Array, low: float, high: float, name: str) -> None:
    off = (values < low) | (values > high)
    if off.any():
        row, column = np.argwhere(off)[0]
        raise BadInput(
            f"{name}: {values[row, column]:g} is outside {low:g}..{high:g}", line=table.lines[int(row)][0]
        )


def _device(table: Table, index: dict[str, int]) -> tuple[tuple[str, ...], Array | None]:
    if all(f"CMYK_{c}" in index for c in "CMYK"):
        names, fields, scale = tuple("CMYK"), [f"CMYK_{c}" for c in "CMYK"], 100.0
    elif all(f"RGB_{c}" in index for c in "RGB"):
        names, fields, scale = tuple("RGB"), [f"RGB_{c}" for c in "RGB"], 255.0
    else:
        found = sorted((int(m.group(2)), name) for name in index if (m := _NCLR.match(name)))
        if not found:
            grey: list[str] = [name for name in ("GRAY_K", "GRAY", "K") if name in index]
            if not grey:
                return (), None
            names, fields, scale = ("K",), grey[:1], 100.0
        else:
            fields, scale = [name for _, name in found], 100.0
            names = _named(table, len(fields))
    values = _columns(table, [index[f] for f in fields])
    if names == tuple("RGB") and values.max() <= 100.0 and "RGB_SCALE" in table.header:
        scale = 100.0
    _check_range(table, values, -0.001, scale * 1.00001, "device value")
    return names, np.clip(values / scale, 0.0, 1.0)


def _named(table: Table, count: int) -> tuple[str, ...]:
    """Names of the inks of an nCLR file: its own, with commas between where one has a space, or the usual
    letters. Raises `BadInput` where they do not fit its columns.
    """
    text = table.header.get("CHANNELS", "").strip()
    if not text:
        return _NCLR_NAMES[:count]
    names = tuple(n.strip() for n in (text.split(",") if "," in text else text.split()))
    if count == 1:
        names = (text,)  # a single ink may have a name of several words
    if len(names) != count or len(set(names)) != count or not all(names):
        raise BadInput(
            f"CHANNELS names {len(names)} inks ({text}), the table has {count} columns of them",
            line=table.fields_line,
        )
    return names


def _spectra(table: Table, index: dict[str, int]) -> Array | None:
    bands = sorted((int(m.group(1)), i) for name, i in index.items() if (m := _SPECTRAL.match(name)))
    bands = [(nm, i) for nm, i in bands if 300 <= nm <= 900]
    if len(bands) < 8:
        return None
    nm = np.array([b[0] for b in bands], dtype=float)
    steps = np.diff(nm)
    if steps.max() - steps.min() > 1e-6:
        raise BadInput("the spectral bands are not evenly spaced", line=table.fields_line)
    if nm[0] > 420 or nm[-1] < 680:
        raise BadInput(
            f"spectra from {nm[0]:.0f} to {nm[-1]:.0f} nm are too narrow for colour", line=table.fields_line
        )
    values = _columns(table, [b[1] for b in bands])
    if (values.max(axis=1) > 2.0).mean() >= 0.5:  # percent; one wild value alone does not make it so
        values = values / 100.0
    _check_range(table, values, -0.02, 2.0, "reflectance factor")
    if len(nm) == len(WAVELENGTHS) and (nm == WAVELENGTHS).all():
        return np.maximum(values, 0.0)
    return np.maximum(resample_spectra(values, nm), 0.0)


def _films(table: Table, index: dict[str, int]) -> Array | None:
    """Transmission densities (n, 2), visual and UV. A file with one of them has it for both, and the header
    says which it is (`DENSITY_KIND`).
    """
    visual = next((n for n in _D_VISUAL if n in index), None)
    uv = next((n for n in _D_UV if n in index), None)
    if visual is None and uv is None:
        return None
    if visual is None or uv is None:
        table.header.setdefault(DENSITY_KIND, "UV" if visual is None else "visual")
    values = _columns(table, [index[n] for n in (visual or uv, uv or visual) if n is not None])
    _check_range(table, values, LOWEST, HIGHEST, "transmission density")
    return values


def _triplet(table: Table, index: dict[str, int], names: tuple[str, str, str]) -> Array | None:
    if not all(name in index for name in names):
        return None
    return _columns(table, [index[name] for name in names])


def _integers(table: Table, index: dict[str, int], name: str) -> np.ndarray | None:
    if name not in index:
        return None
    values = _columns(table, [index[name]])[:, 0]
    if (values != np.round(values)).any() or (values < 1).any():
        bad = int(np.argmax((values != np.round(values)) | (values < 1)))
        raise BadInput(f"{name}: {values[bad]:g} is not a whole number from 1", line=table.lines[bad][0])
    return values.astype(np.int64)


def _ids(table: Table, index: dict[str, int]) -> tuple[str, ...]:
    for name in _ID_FIELDS:
        if name in index:
            values = [parts[index[name]] for _, parts in table.lines]
            seen: dict[str, int] = {}
            for (number, _), value in zip(table.lines, values):
                if value in seen:
                    raise BadInput(f"patch {value} was already given on line {seen[value]}", line=number)
                seen[value] = number
            return tuple(values)
    return tuple(str(i + 1) for i in range(len(table.lines)))


def _names(table: Table, index: dict[str, int]) -> tuple[str, ...] | None:
    """Names of patches beside their ids; None where there is no column for them, or all of it is empty."""
    if "SAMPLE_NAME" not in index or not any(name in index for name in _ID_FIELDS[:3]):
        return None
    named = tuple(parts[index["SAMPLE_NAME"]].strip() for _, parts in table.lines)
    named = tuple("" if name == _NO_NAME else name for name in named)
    return named if any(named) else None


def _condition(header: dict[str, str]) -> str:
    if header.get("MEASUREMENT_CONDITION", "").strip().upper() == TRANSMISSION:
        return TRANSMISSION
    for key in ("MEASUREMENT_CONDITION", "FILTER", "MEASUREMENT_SOURCE", "WEIGHTING_FUNCTION"):
        found = _CONDITION.search(header.get(key, "").upper())
        if found:
            return f"M{found.group(1)}"
    return "M1"


def dumps(readings: ReadingSet, originator: str = "Grey Anchor") -> str:
    """CGATS text of a chart or a reading set, with tabs and LF, ready for any reader.

    >>> chart = ReadingSet(ids=("1",), channels=tuple("CMYK"), device=np.zeros((1, 4)))
    >>> loads(dumps(chart)).channels
    ('C', 'M', 'Y', 'K')
    """
    lines = ["CGATS.17", "", f'ORIGINATOR\t"{originator}"']
    extra: list[str] = []
    for key, value in sorted(readings.meta.items()):
        name = re.sub(r"[^A-Z0-9_]", "_", key.upper())
        if name in ("ORIGINATOR", "MEASUREMENT_CONDITION", "CHANNELS", "CGATS.17", "CGATS_17"):
            continue
        if name == "FILTER" and readings.densities is not None:
            continue
        if name not in (
            "DESCRIPTOR",
            "CREATED",
            "INSTRUMENTATION",
            "PRINT_CONDITIONS",
            "MANUFACTURER",
            "SERIAL",
            "MATERIAL",
        ):
            extra.append(name)
        lines.append(name + '\t"' + str(value).replace('"', "'").replace("\n", " ") + '"')
    fields, columns = _fields(readings)
    custom = [name for name in fields if name in ("SHEET", "ROW", "COLUMN", "D_UV")]
    if readings.is_measured:
        lines.append(f'MEASUREMENT_CONDITION\t"{readings.condition}"')
        extra.append("MEASUREMENT_CONDITION")
    if readings.densities is not None:
        lines.append(f'FILTER\t"{STATUS}"')
    if readings.channels and readings.channels not in (tuple("CMYK"), tuple("RGB")):
        between = ", " if any(" " in c or "," in c for c in readings.channels) else " "
        lines.append('CHANNELS\t"' + between.join(readings.channels) + '"')
        extra.append("CHANNELS")
    lines[2:2] = [f'KEYWORD\t"{name}"' for name in (*extra, *custom)]
    lines += [
        "",
        f"NUMBER_OF_FIELDS\t{len(fields)}",
        "BEGIN_DATA_FORMAT",
        "\t".join(fields),
        "END_DATA_FORMAT",
    ]
    lines += ["", f"NUMBER_OF_SETS\t{len(readings)}", "BEGIN_DATA"]
    lines += ["\t".join(row) for row in zip(*columns)]
    return "\n".join([*lines, "END_DATA", ""])


def _fields(readings: ReadingSet) -> tuple[list[str], list[list[str]]]:
    fields, columns = ["SAMPLE_ID"], [[name if " " not in name else f'"{name}"' for name in readings.ids]]

    def put(names: Sequence[str], values: np.ndarray, form: str) -> None:
        fields.extend(names)
        columns.extend([format(v, form) for v in values[:, i]] for i in range(values.shape[1]))

    if readings.names is not None:
        fields.append("SAMPLE_NAME")
        columns.append(['"' + (name or _NO_NAME).replace('"', "'") + '"' for name in readings.names])
    for name, where in (("SHEET", readings.sheets), ("ROW", readings.rows), ("COLUMN", readings.columns)):
        if where is not None:
            put([name], where[:, None], "d")
    if readings.device is not None:
        if readings.channels == tuple("RGB"):
            put(["RGB_R", "RGB_G", "RGB_B"], readings.device * 255.0, ".3f")
        elif readings.channels == tuple("CMYK"):
            put([f"CMYK_{c}" for c in "CMYK"], readings.device * 100.0, ".4f")
        else:
            n = len(readings.channels)
            put([f"{n}CLR_{i + 1}" for i in range(n)], readings.device * 100.0, ".4f")
    if readings.spectra is not None:
        put(["XYZ_X", "XYZ_Y", "XYZ_Z"], readings.xyz(), ".5f")
    if readings.is_measured and readings.densities is None:
        if readings.spectra is None and readings.measured_xyz is not None:
            put(["XYZ_X", "XYZ_Y", "XYZ_Z"], readings.measured_xyz, ".5f")
        put(["LAB_L", "LAB_A", "LAB_B"], readings.lab(), ".5f")
    if readings.spectra is not None:
        put([f"SPECTRAL_NM{nm}" for nm in WAVELENGTHS], readings.spectra, ".6f")
    if readings.densities is not None:
        put(["D_VIS", "D_UV"], readings.densities, ".5f")
    return fields, columns


def write(readings: ReadingSet, path: str | Path) -> None:
    """Write `dumps(readings)` to a file, UTF-8."""
    Path(path).write_text(dumps(readings), encoding="utf-8")
