"""A PDF examined: boxes, colours, spot colours, fonts, pictures, contours, overprint and layers."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.artwork.findings import ArtworkFacts, Finding, PageFacts, ranked
from greyanchor.core.artwork.pdf import box_of, is_name, name_text, open_pdf, operators_of, page_of
from greyanchor.core.artwork.tint_function import words_of
from greyanchor.core.errors import BadInput

Progress = Callable[[float, str], None]
#: names of spot colours that cutters follow
#: points (1/72 inch) by which a flattened contour may leave its curve: a fiftieth of a mm
_FLAT = 0.057
CUTS = re.compile(r"cut|contour|crease|perf|kiss|die", re.IGNORECASE)
_WHITES = re.compile(r"white", re.IGNORECASE)
MOST_PAGES = 500
#: operators of a page that are followed; a page with more is looked at in part, and that is said
MOST_OPERATORS = 400_000
_DEEPEST = 8
_SOFT_PPI = 120.0
#: a line thinner than this, in points, may not print
_THIN = 0.2
_PROCESS = {
    "DeviceGray": "grey",
    "CalGray": "grey",
    "DeviceRGB": "R G B",
    "CalRGB": "R G B",
    "DeviceCMYK": "C M Y K",
    "Lab": "Lab",
    "Pattern": "",
}
_SETS = {"g": "grey", "G": "grey", "rg": "R G B", "RG": "R G B", "k": "C M Y K", "K": "C M Y K"}


@dataclass
class _Seen:
    """What was met on a page so far."""

    colours: set[str] = field(default_factory=set)
    spots: dict[str, Any] = field(default_factory=dict)
    contours: dict[str, list[list[tuple[float, float]]]] = field(default_factory=dict)
    pictures: list[tuple[float, float, float, float, float]] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    operators: int = 0
    thin: bool = False


@dataclass
class _State:
    """The graphics state as far as it matters here."""

    matrix: np.ndarray
    fill: str = ""
    stroke: str = ""
    width: float = 1.0
    overprint: bool = False
    font: str = ""

    def copy(self) -> _State:
        return replace(self)


def examine_pdf(path: Path, report: Progress) -> ArtworkFacts:
    """What a PDF holds, page by page. Raises `BadInput` for one that cannot be read."""
    with open_pdf(path) as pdf:
        count = len(pdf.pages)
        if not 1 <= count <= MOST_PAGES:
            raise BadInput(f"it has {count} pages; 1 to {MOST_PAGES} are taken", path.name)
        findings = _of_document(pdf)
        pages = []
        for number, page in enumerate(pdf.pages, 1):
            report((number - 1) / count, f"page {number} of {count}")
            seen = _Seen()
            try:
                width, height = box_of(page)
                _walk(pdf, page, seen, number)
            except BadInput:
                raise
            except Exception as error:  # a damaged stream of one page leaves the others
                width, height = 595.0, 842.0
                seen.findings.append(
                    Finding("stop", f"it cannot be read ({str(error)[:80]})", f"page {number}")
                )
            findings += _of_page(seen, number)
            pages.append(
                PageFacts(
                    width / 72.0 * 25.4,
                    height / 72.0 * 25.4,
                    tuple(sorted(c for c in seen.colours if c)),
                    seen.spots,
                    seen.contours,
                    tuple(seen.pictures),
                )
            )
        report(1.0, "done")
        return ArtworkFacts("PDF", tuple(pages), tuple(ranked(findings)))


def _of_document(pdf: Any) -> list[Finding]:
    found = []
    hidden = pdf.Root.get("/OCProperties", {}).get("/D", {}).get("/OFF", [])
    if len(hidden):
        names = ", ".join(str(layer.get("/Name", "without a name")) for layer in list(hidden)[:4])
        found.append(
            Finding(
                "warn",
                f"layers that are switched off will not print: {names}",
                advice="switch on what should",
            )
        )
    if "/OutputIntents" in pdf.Root:
        named = [str(i.get("/OutputConditionIdentifier", "")) for i in pdf.Root.OutputIntents]
        found.append(Finding("know", f"it was made for {', '.join(filter(None, named)) or 'a named press'}"))
    return found


def _of_page(seen: _Seen, number: int) -> list[Finding]:
    where = f"page {number}"
    found = [*seen.findings]
    for name, alternate in sorted(seen.spots.items(), key=lambda item: not CUTS.search(item[0])):
        if CUTS.search(name):
            found.append(Finding("know", f"{name} is a cut contour: it is not printed", where))
        elif name not in ("All", "None"):
            found.append(
                Finding(
                    "know", f"the spot colour {name} is printed by its recipe, or else as {alternate}", where
                )
            )
    if seen.operators > MOST_OPERATORS:
        found.append(Finding("warn", "it is so full that a part of it was not looked at", where))
    coarse = [p for p in seen.pictures if p[4] < _SOFT_PPI]
    if coarse:
        least = min(p[4] for p in coarse)
        found.append(
            Finding(
                "warn",
                f"{len(coarse)} picture{'s' * (len(coarse) > 1)}, from {least:.0f} ppi on, will look soft",
                where,
                "ask for finer ones, or print it smaller",
            )
        )
    if seen.thin:
        found.append(
            Finding(
                "warn", f"lines thinner than {_THIN:g} pt may not print", where, "make them 0.25 pt or more"
            )
        )
    return found


def _walk(pdf: Any, page: Any, seen: _Seen, number: int) -> None:
    import pikepdf

    left, bottom, right, top = (float(v) for v in page.cropbox)
    box = (min(left, right), min(bottom, top), abs(right - left), abs(top - bottom))
    turn = int(page.obj.get("/Rotate", 0)) % 360
    fonts: set[str] = set()
    _content(pikepdf, page, page.resources, _State(np.eye(3)), seen, box, turn, fonts, 0, number)
    if fonts:
        seen.findings.append(
            Finding(
                "stop",
                f"fonts are not in the file: {', '.join(sorted(fonts)[:4])}",
                f"page {number}",
                "send it again with its fonts embedded, or turned into paths",
            )
        )


def _content(
    pikepdf: Any,
    stream: Any,
    resources: Any,
    state: _State,
    seen: _Seen,
    box: Any,
    turn: int,
    fonts: set[str],
    depth: int,
    number: int,
) -> None:
    """Follow the operators of a page or a form."""
    if depth > _DEEPEST or resources is None:
        return
    faces = resources.get("/Font", {})
    spaces = resources.get("/ColorSpace", {})
    forms = resources.get("/XObject", {})
    modes = resources.get("/ExtGState", {})
    stack: list[_State] = []
    path: list[list[tuple[float, float]]] = []
    operators, is_whole = operators_of(stream)
    if not is_whole:
        seen.operators = MOST_OPERATORS + 1
    for operands, operator in operators:
        seen.operators += 1
        if is_whole and seen.operators > MOST_OPERATORS:
            return
        name = str(operator)
        if name == "q":
            stack.append(state.copy())
        elif name == "Q" and stack:
            state = stack.pop()
        elif name == "cm" and len(operands) == 6:
            state.matrix = _matrix(operands) @ state.matrix
        elif name in _SETS:
            seen.colours.add(_SETS[name])
            setattr(state, "stroke" if name.isupper() else "fill", "")
        elif name in ("cs", "CS") and operands:
            spot = _space(_held(spaces, operands[0]) or operands[0], seen)
            setattr(state, "stroke" if name == "CS" else "fill", spot)
        elif name == "Tf" and operands:
            state.font = _missing(_held(faces, operands[0]))
        elif name in ("Tj", "TJ", "'", '"') and state.font:
            fonts.add(state.font)
        elif name == "w" and operands:
            state.width = float(operands[0])
        elif name == "gs" and operands:
            state.overprint = bool((_held(modes, operands[0]) or {}).get("/OP", state.overprint))
        elif name == "m":
            path.append([_point(operands, state, box, turn)])
        elif name == "l" and path:
            path[-1].append(_point(operands, state, box, turn))
        elif name in ("c", "v", "y") and path:
            is_cut = bool(CUTS.search(state.stroke) or CUTS.search(state.fill))
            path[-1] += (
                _curve(name, operands, path[-1][-1], state, box, turn)
                if is_cut
                else [_point(operands[-2:], state, box, turn)]
            )
        elif name == "re" and len(operands) == 4:
            x, y, w, h = (float(v) for v in operands)
            corners = ((x, y), (x + w, y), (x + w, y + h), (x, y + h), (x, y))
            path.append([_point(c, state, box, turn) for c in corners])
        elif name == "h" and path and path[-1]:
            path[-1].append(path[-1][0])
        elif name in ("S", "s", "f", "F", "f*", "B", "B*", "b", "b*", "n"):
            _painted(name, path, state, seen, number)
            path = []
        elif name == "Do" and operands:
            item = _held(forms, operands[0])
            if item is None:
                continue
            if item.get("/Subtype") == "/Image":
                _image(item, state, seen, box, turn)
            else:
                inner = state.copy()
                if "/Matrix" in item:
                    inner.matrix = _matrix(list(item.Matrix)) @ inner.matrix
                own = item.get("/Resources", resources)
                _content(pikepdf, item, own, inner, seen, box, turn, fonts, depth + 1, number)


def _held(resources: Any, name: Any) -> Any:
    """What a resource dictionary holds under a name; None where it holds none."""
    return resources.get(name) if len(resources) and is_name(name) else None


def _painted(name: str, path: list[Any], state: _State, seen: _Seen, number: int) -> None:
    strokes = name in ("S", "s", "B", "B*", "b", "b*")
    spot = state.stroke if strokes else state.fill
    if spot and CUTS.search(spot) and path and name != "n":
        kept = seen.contours.setdefault(spot, [])
        kept.extend(p for p in path if len(p) > 1)
    elif strokes:
        scale = abs(np.linalg.det(state.matrix[:2, :2])) ** 0.5
        seen.thin |= 0.0 <= state.width * scale < _THIN
    if spot and _WHITES.search(spot) and state.overprint:
        seen.findings.append(
            Finding("warn", f"{spot} overprints, so it would vanish", f"page {number}", "let it knock out")
        )


def _matrix(operands: Any) -> np.ndarray:
    a, b, c, d, e, f = (float(v) for v in operands)
    return np.array([[a, b, 0.0], [c, d, 0.0], [e, f, 1.0]])


def _point(operands: Any, state: _State, box: Any, turn: int) -> tuple[float, float]:
    """A place in shares of the page as it is seen, from the top left."""
    x, y, _ = np.array([float(operands[0]), float(operands[1]), 1.0]) @ state.matrix
    u, v = (x - box[0]) / box[2], 1.0 - (y - box[1]) / box[3]
    for _ in range(turn // 90):
        u, v = 1.0 - v, u
    return round(float(u), 6), round(float(v), 6)


def _curve(
    name: str, operands: Any, start: tuple[float, float], state: _State, box: Any, turn: int
) -> list[tuple[float, float]]:
    """A cubic curve as lines that leave it by less than `_FLAT`; the first control point of ``v`` is where it
    starts, the second of ``y`` where it ends.
    """
    found = [_point(operands[i : i + 2], state, box, turn) for i in range(0, len(operands), 2)]
    control = {"v": [start, *found], "y": [found[0], found[-1], found[-1]]}.get(name, found)
    ends = np.array([start, *control[:3]], dtype=float)
    size = np.array([box[2], box[3]] if turn % 180 == 0 else [box[3], box[2]], dtype=float)
    bends = np.hypot(*(np.diff(ends * size, 2, axis=0)).T).max()
    # the second derivative of a cubic is at most six times its second differences
    steps = int(np.clip(np.ceil((6.0 * bends / (8.0 * _FLAT)) ** 0.5), 1, 400))
    t = np.arange(1, steps + 1)[:, None] / steps
    weights = np.hstack([(1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t**2 * (1 - t), t**3])
    return [(round(float(u), 6), round(float(v), 6)) for u, v in weights @ ends]


def _image(item: Any, state: _State, seen: _Seen, box: Any, turn: int) -> None:
    _space(item.get("/ColorSpace"), seen)
    across = float(np.hypot(*state.matrix[0, :2])) / 72.0
    down = float(np.hypot(*state.matrix[1, :2])) / 72.0
    if across <= 0 or down <= 0:
        return
    ppi = min(float(item.get("/Width", 1)) / across, float(item.get("/Height", 1)) / down)
    corners = [_point(c, state, box, turn) for c in ((0, 0), (1, 0), (1, 1), (0, 1))]
    xs, ys = [c[0] for c in corners], [c[1] for c in corners]
    left, top = max(min(xs), 0.0), max(min(ys), 0.0)
    wide, tall = min(max(xs), 1.0) - left, min(max(ys), 1.0) - top
    if wide > 0 and tall > 0 and len(seen.pictures) < 400:
        seen.pictures.append((left, top, wide, tall, round(ppi, 1)))


def _space(space: Any, seen: _Seen) -> str:
    """Note a colour space; the name of its spot colour, empty where it is none."""
    if space is None:
        return ""
    if not hasattr(space, "__iter__") or isinstance(space, str) or is_name(space):
        seen.colours.add(_PROCESS.get(name_text(space), ""))
        return ""
    kind = name_text(space[0])
    if kind == "ICCBased":
        count = int(space[1].get("/N", 3))
        seen.colours.add({1: "grey", 3: "R G B", 4: "C M Y K"}.get(count, "") + " with a profile")
    elif kind == "Indexed":
        return _space(space[1], seen)
    elif kind == "Separation":
        name = spot_name(space[1])
        if name not in ("All", "None", "Cyan", "Magenta", "Yellow", "Black"):
            seen.spots[name] = words_of(space, _PROCESS)
        return name
    elif kind == "DeviceN":
        for ink in space[1]:
            if spot_name(ink) not in ("None", "Cyan", "Magenta", "Yellow", "Black"):
                seen.spots.setdefault(spot_name(ink), "its inks together in the file")
    else:
        seen.colours.add(_PROCESS.get(kind, ""))
    return ""


def spot_name(value: Any) -> str:
    """A name in any alphabet: PDF writes bytes that are not letters as #xx."""
    raw = name_text(value)
    plain = re.sub(r"#([0-9A-Fa-f]{2})", lambda m: chr(int(m[1], 16)), raw)
    try:
        return plain.encode("latin-1").decode("utf-8")
    except (UnicodeEncodeError, UnicodeDecodeError):
        return plain


def _missing(font: Any) -> str:
    """The name of a font that is not in the file; empty for one that is."""
    if font is None or name_text(font.get("/Subtype")) == "Type3":
        return ""
    held = font.DescendantFonts[0] if "/DescendantFonts" in font else font
    described = held.get("/FontDescriptor", {})
    if any(key in described for key in ("/FontFile", "/FontFile2", "/FontFile3")):
        return ""
    return name_text(font.get("/BaseFont", "without a name"))


def page_is_cmyk(path: Path, number: int) -> bool:
    """Whether a page has colours that R G B cannot hold as they are: C M Y K or spot colours."""
    seen = _seen_on(path, number)
    return bool(seen.spots) or any(c.startswith("C M Y K") for c in seen.colours)


def colours_of_page(path: Path, number: int) -> list[str]:
    """Colour spaces of a page in words, such as ``R G B with a profile``."""
    return sorted(c for c in _seen_on(path, number).colours if c)


def spots_of_page(path: Path, number: int) -> list[str]:
    """Spot colours of a page that are printed, in the order of their names."""
    return sorted(n for n in _seen_on(path, number).spots if n not in ("All", "None") and not CUTS.search(n))


def _seen_on(path: Path, number: int) -> _Seen:
    facts = path.stat()
    return _walked(path, number, facts.st_mtime_ns, facts.st_size)


@lru_cache(maxsize=16)
def _walked(path: Path, number: int, changed: int, size: int) -> _Seen:
    """What is on a page; another content has another time or size."""
    with open_pdf(path) as pdf:
        seen = _Seen()
        _walk(pdf, page_of(pdf, number, path.name), seen, number)
        return seen
