"""Files that list spot colours: read from CxF, CSV and CGATS, and written to them."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any
from xml.sax.saxutils import quoteattr

import numpy as np

from greyanchor.core import cells
from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array, resample_spectra
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, cxf, cxf_writing
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.spots import SpotColour, tint_of

#: endings of the files that can be written, and what they are
ENDINGS = {"cxf": "CxF/X-4", "csv": "CSV", "txt": "CGATS"}


@dataclass(frozen=True)
class Listed:
    """A line of a list: `text` is the name, with the tint in it where it is one; `spectrum` is empty where
    only Lab (3,) is known. `over_black` marks what was read over black.
    """

    text: str
    lab: Array
    spectrum: tuple[float, ...] = ()
    over_black: bool = False
    condition: str = "M1"


def _three(lab: Array) -> tuple[float, float, float]:
    return float(lab[0]), float(lab[1]), float(lab[2])


def gathered(listed: Iterable[Listed]) -> dict[str, SpotColour]:
    """Spot colours from the lines of a list; `BadInput` for tints without a solid."""
    solids: dict[str, Listed] = {}
    blacks: dict[str, Listed] = {}
    tints: dict[str, dict[float, tuple[float, float, float]]] = {}
    for line in listed:
        name, tint = tint_of(line.text)
        if line.over_black:
            if tint >= 100.0:
                blacks[name] = line
        elif tint >= 100.0:
            if name in solids:
                raise BadInput(f"the spot colour {name} is there more than once")
            solids[name] = line
        else:
            tints.setdefault(name, {})[tint] = _three(line.lab)
    alone = sorted(set(tints) - set(solids))
    if alone:
        raise BadInput(f"there are tints of {alone[0]}, but no solid of it")
    return {
        name: SpotColour(
            name,
            _three(line.lab),
            tints.get(name, {}),
            line.spectrum,
            _three(blacks[name].lab) if name in blacks else None,
            line.condition,
        )
        for name, line in solids.items()
    }


def from_readings(readings: ReadingSet) -> dict[str, SpotColour]:
    """Spot colours among measured patches: all that have names, or all of them where there are no device
    values.
    """
    names = readings.names or (readings.ids if readings.device is None else ())
    return gathered(_lines(readings, ((i, name) for i, name in enumerate(names) if name)))


def _lines(
    readings: ReadingSet, named: Iterable[tuple[int, str]], over_black: bool = False
) -> Iterator[Listed]:
    lab = readings.lab()
    for i, name in named:
        spectrum = () if readings.spectra is None else tuple(float(round(v, 6)) for v in readings.spectra[i])
        yield Listed(name, lab[i], spectrum, over_black, readings.condition)


def from_file(data: bytes, source: str) -> dict[str, SpotColour]:
    """Spot colours of a file: CxF/X-4 or other CxF3, a CSV list, or CGATS text with names.

    Raises `BadInput` that names `source` and the colour that cannot be read.
    """
    if not cxf.looks_like(data):
        text = cgats.decode(data)
        if "BEGIN_DATA" not in text:
            return from_csv(text, source)
        return from_readings(cgats.loads(text, source))
    readings = cxf.loads(data, source)
    listed: list[Listed] = []
    where = {name: i for i, name in enumerate(readings.ids)}
    try:
        for background in ("Substrate", "Process Black"):
            named = []
            for ink, tint, name in cxf.spot_inks(data, source, background):
                if tint <= 0:
                    continue
                if name not in where:
                    raise BadInput(f"the object {name} of the ink {ink} holds no colour")
                named.append((where[name], ink if tint >= 100 else f"{ink} {tint:g} %"))
            listed += _lines(readings, named, background != "Substrate")
        if not listed:
            return from_readings(replace(readings, device=None, channels=()))
        return gathered(listed)
    except BadInput as error:
        raise error.at(source) from None


def from_csv(text: str, source: str) -> dict[str, SpotColour]:
    """Spot colours of a table with the columns name, L, a, b and, where it has them, tint (percent),
    condition (M0 to M3) and reflectances headed by their wavelength (380 or 380 nm).

    Commas, semicolons or tabs part the columns; with semicolons or tabs decimals may have commas.
    Raises `BadInput` naming the line.
    """
    lines = text.lstrip("\ufeff").splitlines()
    if not lines:
        raise BadInput("the file is empty", source)
    part = next((p for p in ("\t", ";") if p in lines[0]), ",")
    head = [_plain(h) for h in next(csv.reader([lines[0]], delimiter=part))]
    wanted = {
        "name": ("name", "colour", "color", "spot"),
        "l": ("l", "labl", "lstar"),
        "a": ("a", "laba", "astar"),
        "b": ("b", "labb", "bstar"),
    }
    where = {key: next((i for i, h in enumerate(head) if h in known), -1) for key, known in wanted.items()}
    missing = [key for key, i in where.items() if i < 0]
    if missing:
        raise BadInput(f"the first line names no column {missing[0]}; it needs name, L, a and b", source, 1)
    tint_at = next((i for i, h in enumerate(head) if h in ("tint", "tone", "percent")), -1)
    nm = {i: float(h.removesuffix("nm")) for i, h in enumerate(head) if _is_wavelength(h)}
    condition_at = head.index("condition") if "condition" in head else -1
    named: list[Listed] = []
    rows = csv.reader(io.StringIO("\n".join(lines[1:])), delimiter=part)
    for number, row in enumerate(rows, start=2):
        if not any(cell.strip() for cell in row):
            continue
        try:
            lab = np.array([_number(row[where[k]], part) for k in "lab"])
            tint = _number(row[tint_at], part) if tint_at >= 0 and row[tint_at].strip() else 100.0
            name = cells.as_meant(row[where["name"]].strip())
            spectrum = _spectrum(row, nm, part) if tint >= 100 else ()
            condition = row[condition_at].strip() if condition_at >= 0 else ""
        except (IndexError, ValueError):
            raise BadInput("expected a name and three numbers", source, number) from None
        try:
            SpotColour(name, (lab[0], lab[1], lab[2]), spectrum=spectrum)
        except BadInput as error:
            raise BadInput(error.reason, source, number) from None
        text = name if tint >= 100 else f"{name} {tint:g} %"
        named.append(Listed(text, lab, spectrum, condition=condition or "M1"))
    if not named:
        raise BadInput("the file lists no spot colour", source)
    try:
        return gathered(named)
    except BadInput as error:
        raise error.at(source) from None


def _plain(head: str) -> str:
    return "".join(c for c in head.strip().strip("*").lower() if c.isalnum())


def _number(text: str, part: str) -> float:
    return float(text.strip().rstrip("%").replace(",", ".") if part != "," else text.strip().rstrip("%"))


def _is_wavelength(head: str) -> bool:
    bare = head.removesuffix("nm")
    return bare.isdigit() and 300 <= int(bare) <= 900


def _spectrum(row: list[str], nm: dict[int, float], part: str) -> tuple[float, ...]:
    if len(nm) < 16 or not any(row[i].strip() for i in nm):
        return ()
    at = np.array(sorted(nm.values()))
    values = np.array([_number(row[i], part) for i, _ in sorted(nm.items(), key=lambda item: item[1])])
    if values.max() > 3.0:
        values = values / 100.0
    return tuple(float(round(v, 6)) for v in resample_spectra(values[None], at)[0])


# --- writing ---------------------------------------------------------------------------------


def dumps(colours: Iterable[SpotColour], ending: str, title: str = "") -> bytes:
    """A list as a file by its ending, of `ENDINGS`; what it holds comes back by `from_file`, but that CSV and
    CGATS have no place for what lies over black.
    """
    found = list(colours)
    if not found:
        raise BadInput("there is no spot colour to write")
    if ending == "csv":
        return _csv(found)
    if ending == "cxf":
        return _cxf(found, title)
    if ending == "txt":
        return cgats.dumps(_readings(found, title)).encode()
    raise BadInput(f"spot colours are written as {', '.join(ENDINGS)}, not as {ending!r}")


def _csv(colours: list[SpotColour]) -> bytes:
    out = io.StringIO()
    writer = cells.Writer(out, lineterminator="\n")
    has = any(c.spectrum for c in colours)
    bands = [f"{nm} nm" for nm in WAVELENGTHS] if has else []
    writer.writerow(["name", "tint", "L", "a", "b", *(["condition", *bands] if has else [])])
    for c in colours:
        for tint, lab in [(100.0, c.lab), *sorted(c.tints.items(), reverse=True)]:
            spectrum = c.spectrum if tint >= 100.0 else ()
            more = [c.condition, *(f"{v:.6f}" for v in spectrum)] if spectrum else [""] * (1 + len(bands))
            writer.writerow([c.name, f"{tint:g}", *(f"{v:.4f}" for v in lab), *(more if has else [])])
    return out.getvalue().encode()


def _readings(colours: list[SpotColour], title: str) -> ReadingSet:
    """Solids and tints as patches with names; with spectra where every patch has one."""
    rows: list[tuple[str, Any, Any]] = []
    for c in colours:
        rows.append((c.name, c.lab, c.spectrum))
        rows += [(f"{c.name} {t:g} %", lab, ()) for t, lab in sorted(c.tints.items(), reverse=True)]
    whole = all(spectrum for _, _, spectrum in rows) and len({c.condition for c in colours}) == 1
    return ReadingSet(
        ids=tuple(str(i + 1) for i in range(len(rows))),
        names=tuple(name for name, _, _ in rows),
        spectra=np.array([s for _, _, s in rows]) if whole else None,
        measured_lab=None if whole else np.array([lab for _, lab, _ in rows]),
        condition=colours[0].condition if whole else "M1",
        meta={"DESCRIPTOR": title} if title else {},
    )


def _cxf(colours: list[SpotColour], title: str) -> bytes:
    """CxF/X-4 (ISO 17972-4): objects with what was measured, and for each ink which object is which tint."""
    conditions = sorted({c.condition for c in colours if c.spectrum}) or ["M1"]
    if len(conditions) > 1:
        raise BadInput(
            f"these colours were read under {' and '.join(conditions)}, which one CxF file does not hold: "
            "write them as CSV, or one condition at a time"
        )
    objects: list[str] = []
    inks = []
    for c in colours:
        tints = [(t, lab, ()) for t, lab in sorted(c.tints.items(), reverse=True)]
        series: dict[str, list[tuple[float, Any, Any]]] = {"Substrate": [(100.0, c.lab, c.spectrum), *tints]}
        if c.over_black:
            series["Process Black"] = [(100.0, c.over_black, ())]
        sets = []
        for background, rows in series.items():
            measured = []
            for tint, lab, spectrum in rows:
                key = f"s{len(objects) + 1}"
                objects.append(_object(key, conditions[0], lab, spectrum))
                measured.append(f'<cc:Measurement TintPercentage="{tint:g}" ObjectRef="{key}"/>')
            inner = "".join(measured)
            sets.append(f'<cc:MeasurementSet Background="{background}">{inner}</cc:MeasurementSet>')
        inks.append(
            f"   <cc:SpotInkCharacterisation SpotInkName={quoteattr(c.name)}>{''.join(sets)}"
            "</cc:SpotInkCharacterisation>"
        )
    shell = cxf_writing.dumps(
        ReadingSet(
            ids=("x",),
            measured_lab=np.zeros((1, 3)),
            condition=conditions[0],
            meta={"DESCRIPTOR": title} if title else {},
        )
    )
    before, _, after = shell.partition("  <cc:ObjectCollection>\n")
    _, _, after = after.partition("  </cc:ObjectCollection>\n")
    body = "\n".join(["  <cc:ObjectCollection>", *objects, "  </cc:ObjectCollection>", ""])
    custom = "\n".join([" <cc:CustomResources>", *inks, " </cc:CustomResources>", "</cc:CxF>"])
    return (before + body + after.replace("</cc:CxF>", custom)).encode()


def _object(key: str, condition: str, lab: Any, spectrum: tuple[float, ...]) -> str:
    values = ""
    if spectrum:
        listed = " ".join(f"{v:.6f}" for v in spectrum)
        values = (
            f'<cc:ReflectanceSpectrum ColorSpecification="{condition}" StartWL="380">{listed}'
            "</cc:ReflectanceSpectrum>"
        )
    inner = "".join(f"<cc:{n}>{v:.5f}</cc:{n}>" for n, v in zip("LAB", lab))
    return (
        f'   <cc:Object ObjectType="Standard" Name="{key}" Id="{key}"><cc:ColorValues>{values}'
        f'<cc:ColorCIELab ColorSpecification="{condition}">{inner}</cc:ColorCIELab></cc:ColorValues>'
        "</cc:Object>"
    )
