"""CxF3 (ISO 17972) XML: objects with device values, spectra, XYZ or Lab.

Entities and document types are refused before anything is read. Sheet positions travel as tags.
"""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.sax import SAXParseException
from xml.sax.handler import ContentHandler

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.sax import make_parser

from greyanchor.core.colour.colorimetry import WAVELENGTHS, Array, resample_spectra
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.cgats import MAX_BYTES
from greyanchor.core.formats.files import read_limited
from greyanchor.core.measurement.readings import CONDITIONS, ReadingSet

NAMESPACE = "http://colorexchangeformat.com/CxF3-core"
INKS = {"Cyan": "C", "Magenta": "M", "Yellow": "Y", "Black": "K"}
INK_NAMES = {letter: name for name, letter in INKS.items()}
LIGHTS = {"Red": "R", "Green": "G", "Blue": "B"}
_DEEPEST = 40


@dataclass
class _Node:
    name: str
    attributes: dict[str, str]
    line: int
    text: str = ""
    children: list[_Node] = field(default_factory=list)

    def find(self, *names: str) -> _Node | None:
        """The first child of one of these names, or None."""
        return next((c for c in self.children if c.name in names), None)

    def all(self, *names: str) -> list[_Node]:
        """Every descendant of one of these names, in document order."""
        found = []
        for child in self.children:
            if child.name in names:
                found.append(child)
            found += child.all(*names)
        return found

    def number(self) -> float:
        try:
            value = float(self.text.strip().replace(",", "."))
        except ValueError:
            value = float("nan")
        if not np.isfinite(value):
            raise BadInput(f"{self.name}: {self.text.strip()[:40]!r} is not a number", line=self.line)
        return value


class _Builder(ContentHandler):
    """A light tree with line numbers."""

    def __init__(self) -> None:
        super().__init__()
        self.root: _Node | None = None
        self._open: list[_Node] = []

    def startElement(self, name: str, attrs: Any) -> None:
        line = self._locator.getLineNumber() or 0  # type: ignore[attr-defined]
        if len(self._open) >= _DEEPEST:
            raise BadInput(f"elements are nested more than {_DEEPEST} deep", line=line)
        node = _Node(name.rpartition(":")[2], dict(attrs.items()), line)
        if self._open:
            self._open[-1].children.append(node)
        else:
            self.root = node
        self._open.append(node)

    def endElement(self, name: str) -> None:
        self._open.pop()

    def characters(self, content: str) -> None:
        if self._open:
            self._open[-1].text += content


def looks_like(data: bytes) -> bool:
    """Whether a file is XML at all."""
    return data.lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"<"


def read(path: str | Path) -> ReadingSet:
    """Read a CxF3 file; errors name file, line and reason."""
    return loads(read_limited(path, MAX_BYTES), Path(path).name)


def loads(data: bytes, source: str = "readings") -> ReadingSet:
    """Parse CxF3 given as bytes.

    Raises `BadInput` that names `source`, line and reason.
    """
    try:
        return _build(_parse(data))
    except BadInput as error:
        raise error.at(source) from None


def spot_inks(
    data: bytes, source: str = "spot colours", background: str = "Substrate"
) -> list[tuple[str, float, str]]:
    """Tints of spot inks that a CxF/X-4 file (ISO 17972-4) characterizes: ink, tint in percent, name of
    the object.

    Only measurements over `background` count, ``Substrate`` or ``Process Black``. Empty for a file without
    such a characterization.

    Raises `BadInput` for tints that are no numbers and for objects that are not there.
    """
    try:
        root = _parse(data)
        names = {o.attributes.get("Id", ""): o.attributes.get("Name", "") for o in root.all("Object")}
        found = []
        for ink in root.all("SpotInkCharacterisation", "SpotInkCharacterization"):
            result = ink.find("SpotInkName")
            title = ((result.text if result else "") or ink.attributes.get("SpotInkName", "")).strip()
            for series in ink.all("MeasurementSet"):
                if series.attributes.get("Background", "Substrate") != background:
                    continue
                for one in series.all("Measurement"):
                    tint = one.attributes.get("TintPercentage") or one.attributes.get("Tint") or "100"
                    ref = one.attributes.get("ObjectRef", "")
                    if ref not in names:
                        raise BadInput(
                            f"the ink {title} refers to the object {ref!r}, which is not there", line=one.line
                        )
                    found.append((title, float(tint), names[ref] or ref))
    except ValueError as error:
        if isinstance(error, BadInput):
            raise error.at(source) from None
        raise BadInput(f"a tint is not a number: {error}", source) from None
    return found


def _parse(data: bytes) -> _Node:
    builder, parser = _Builder(), make_parser()
    parser.forbid_dtd = True
    parser.setContentHandler(builder)
    try:
        parser.parse(io.BytesIO(data))
    except DefusedXmlException:
        at = data.find(b"<!")
        raise BadInput(
            "the file declares entities or a document type, which is refused", line=data[:at].count(b"\n") + 1
        ) from None
    except SAXParseException as error:
        raise BadInput(
            f"this is not well-formed XML: {error.getMessage()}", line=error.getLineNumber()
        ) from None
    except BadInput:
        raise
    except (LookupError, ValueError) as error:
        raise BadInput(f"the text of the file cannot be decoded: {error}", line=1) from None
    if builder.root is None or builder.root.name != "CxF":
        raise BadInput("this is XML, but not CxF3: its root element is not CxF", line=1)
    return builder.root


def _build(root: _Node) -> ReadingSet:
    objects = root.all("Object")
    if not objects:
        raise BadInput("the file holds no Object with colour values", line=root.line)
    specifications = _specifications(root)
    merged: dict[str, list[_Node]] = {}
    for item in objects:
        name = item.attributes.get("Name") or item.attributes.get("Id") or str(len(merged) + 1)
        merged.setdefault(name, []).append(item)
    merged = {k: v for k, v in merged.items() if any(o.all("ColorValues", "DeviceColorValues") for o in v)}
    if not merged:
        raise BadInput("no object holds device values, spectra, XYZ or Lab", line=root.line)
    condition = _condition(objects, specifications)
    channels, device = _device(merged)
    spectra, xyz, lab = _measured(merged, specifications, condition)
    where: dict[str, Any] = {
        key: _tags(merged, name)
        for key, name in (("sheets", "Sheet"), ("rows", "Row"), ("columns", "Column"))
    }
    return ReadingSet(
        ids=tuple(merged),
        channels=channels,
        device=device,
        spectra=spectra,
        measured_xyz=xyz if spectra is None else None,
        measured_lab=lab if spectra is None and xyz is None else None,
        condition=condition,
        meta=_facts(root),
        **where,
    )


@dataclass(frozen=True)
class _Specification:
    condition: str
    start: float | None
    step: float | None


def _specifications(root: _Node) -> dict[str, _Specification]:
    out = {}
    for item in root.all("ColorSpecification"):
        text = " ".join(
            [item.attributes.get("Id", ""), *(n.text for n in item.all("DeviceIllumination", "DeviceFilter"))]
        )
        found = re.search(r"M([0-3])(?!\d)", text)
        span = next(iter(item.all("WavelengthRange")), None)
        numbers = [
            _wavelength(span, k) if span is not None and k in span.attributes else None
            for k in ("StartWL", "Increment")
        ]
        out[item.attributes.get("Id", "")] = _Specification(
            f"M{found.group(1)}" if found else "", numbers[0], numbers[1]
        )
    return out


def _condition(objects: list[_Node], specifications: dict[str, _Specification]) -> str:
    """M1 where it is there, else the first that is named, else M1."""
    named = [
        specifications[ref].condition
        for item in objects
        for value in item.all("ReflectanceSpectrum", "ColorCIELab", "ColorCIEXYZ")
        if (ref := value.attributes.get("ColorSpecification", "")) in specifications
    ]
    present = [c for c in named if c in CONDITIONS]
    return "M1" if "M1" in present or not present else present[0]


def _device(merged: dict[str, list[_Node]]) -> tuple[tuple[str, ...], Array | None]:
    rows: list[dict[str, float]] = []
    scale = 100.0
    for name, items in merged.items():
        values: dict[str, float] = {}
        for group in (g for o in items for g in o.all("DeviceColorValues")):
            for node in group.all(*INKS, *LIGHTS):
                values[INKS.get(node.name) or LIGHTS[node.name]] = node.number()
                scale = 255.0 if node.name in LIGHTS else scale
            for spot in group.all("SpotColor"):
                label, amount = spot.find("Name"), spot.find("Percentage")
                if label is not None and amount is not None:
                    values[label.text.strip()] = amount.number()
        rows.append(values)
        if rows[0].keys() != values.keys():
            raise BadInput(f"patch {name} has other channels than the first", line=items[0].line)
    if not rows[0]:
        return (), None
    channels = tuple(rows[0])
    values_array = np.array([[r[c] for c in channels] for r in rows])
    if values_array.min() < -0.001 or values_array.max() > scale * 1.00001:
        worst = int(np.argmax(np.abs(values_array).max(axis=1)))
        name = list(merged)[worst]
        raise BadInput(f"patch {name} has a device value outside 0..{scale:g}", line=merged[name][0].line)
    return channels, np.clip(values_array / scale, 0.0, 1.0)


def _measured(
    merged: dict[str, list[_Node]], specifications: dict[str, _Specification], condition: str
) -> tuple[Array | None, Array | None, Array | None]:
    def wanted(items: list[_Node], name: str) -> _Node | None:
        found = [n for o in items for n in o.all(name)]
        lines = [specifications.get(n.attributes.get("ColorSpecification", "")) for n in found]
        exact = [n for n, s in zip(found, lines) if s is not None and s.condition == condition]
        return next(iter(exact or found), None)

    spectra_nodes = [wanted(i, "ReflectanceSpectrum") for i in merged.values()]
    spectra = None
    if all(n is not None for n in spectra_nodes):
        spectra = np.vstack([_spectrum(n, specifications) for n in spectra_nodes if n is not None])
        if (spectra.max(axis=1) > 2.0).mean() >= 0.5:
            spectra = spectra / 100.0
        for node, row in zip(spectra_nodes, spectra):
            if node is not None and (row.min() < -0.02 or row.max() > 2.0):
                raise BadInput("a reflectance factor lies outside 0..2", line=node.line)
        spectra = np.maximum(spectra, 0.0)
    triplets: list[Array | None] = []
    for name, parts in (("ColorCIEXYZ", "XYZ"), ("ColorCIELab", "LAB")):
        nodes = [wanted(i, name) for i in merged.values()]
        triplets.append(
            np.array([_triplet(n, parts) for n in nodes if n is not None])
            if all(n is not None for n in nodes)
            else None
        )
    if spectra is None and not any(t is not None for t in triplets):
        half = [n for n in spectra_nodes if n is None]
        if len(half) < len(spectra_nodes):
            missing = list(merged)[spectra_nodes.index(None)]
            raise BadInput(f"patch {missing} has no spectrum, others have", line=merged[missing][0].line)
    return spectra, triplets[0], triplets[1]


def _spectrum(node: _Node, specifications: dict[str, _Specification]) -> Array:
    try:
        values = np.array([float(v.replace(",", ".")) for v in node.text.split()])
    except ValueError:
        raise BadInput("ReflectanceSpectrum holds something that is not a number", line=node.line) from None
    if not len(values) or not np.isfinite(values).all():
        raise BadInput("ReflectanceSpectrum is empty or not finite", line=node.line)
    found = specifications.get(node.attributes.get("ColorSpecification", ""))
    here = _wavelength(node, "StartWL") if node.attributes.get("StartWL") else None
    start = here or (found.start if found else None) or 380.0
    step = (found.step if found else None) or _likely_step(len(values), start)
    nm = start + step * np.arange(len(values))
    if len(values) < 8 or nm[0] > 420 or nm[-1] < 680:
        raise BadInput(
            f"a spectrum of {len(values)} values from {start:g} nm is too narrow for colour", line=node.line
        )
    if len(nm) == len(WAVELENGTHS) and (nm == WAVELENGTHS).all():
        return values[None]
    return resample_spectra(values[None], nm)


def _wavelength(node: _Node, name: str) -> float:
    """An attribute in nanometres; `BadInput` with its line for anything else."""
    try:
        value = float(node.attributes[name])
    except ValueError:
        value = float("nan")
    if not 100.0 <= value <= 3000.0 and not (name != "StartWL" and 0.0 < value <= 3000.0):
        raise BadInput(f"{name}: {node.attributes[name]!r} is no wavelength in nanometres", line=node.line)
    return value


def _likely_step(count: int, start: float) -> float:
    """5, 10 or 20 nm: the one that ends nearest to 730 nm."""
    return min((5.0, 10.0, 20.0), key=lambda s: abs(start + s * (count - 1) - 730.0))


def _triplet(node: _Node, names: str) -> list[float]:
    parts = {child.name.upper(): child for child in node.children}
    missing = [n for n in names if n not in parts]
    if missing:
        raise BadInput(f"{node.name} has no {missing[0]}", line=node.line)
    return [parts[n].number() for n in names]


def _tags(merged: dict[str, list[_Node]], name: str) -> np.ndarray | None:
    out = []
    for items in merged.values():
        found = [t for o in items for t in o.all("Tag") if t.attributes.get("Name") == name]
        value = found[0].attributes.get("Value", "") if found else ""
        if not value.isdecimal() or len(value) > 9 or int(value) < 1:
            return None
        out.append(int(value))
    return np.array(out, dtype=np.int64)


def _facts(root: _Node) -> dict[str, str]:
    information = root.find("FileInformation")
    if information is None:
        return {}
    facts = {
        t.attributes["Name"]: t.attributes.get("Value", "")
        for t in information.all("Tag")
        if "Name" in t.attributes
    }
    for name, key in (("Description", "DESCRIPTOR"), ("CreationDate", "CREATED")):
        node = information.find(name)
        if node is not None and node.text.strip():
            facts.setdefault(key, node.text.strip())
    return facts
