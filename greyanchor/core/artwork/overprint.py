"""A copy of a PDF whose black overprints: where black ink alone is drawn, what lies under it stays."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from greyanchor.core.artwork.pdf import name_text, open_pdf

#: graphics states that are added: black's, and the file's own put back (which overprints, or not); no name of
#: a file begins alike
_BLACK, _OWN, _OUT = "GreyAnchorBlack", "GreyAnchorOver", "GreyAnchorOut"
_STATES = {_BLACK: (True, 1), _OWN: (True, 0), _OUT: (False, 0)}
#: operators that set a colour: of filling and of stroking
_FILLS = ("g", "rg", "k", "sc", "scn", "cs")
_STROKES = ("G", "RG", "K", "SC", "SCN", "CS")


def black_overprints(path: Path, target: Path) -> None:
    """Write a copy in which everything drawn in black ink alone overprints (ISO 32000-2, 11.7.4).

    Other colours overprint as the file says. Grey of DeviceGray that is black is written as C M Y K, since
    the overprint mode that keeps what is below works for that alone.
    """
    import pikepdf

    with open_pdf(path) as pdf:
        for page in pdf.pages:
            page.contents_coalesce()
            page.Contents = pdf.make_stream(_rewritten(page))
            _add_states(pdf, page)
        for item in list(pdf.objects):
            if isinstance(item, pikepdf.Stream) and name_text(item.get("/Subtype", "")) == "Form":
                item.write(_rewritten(item))
                _add_states(pdf, item)
        pdf.save(target)


def _add_states(pdf: Any, holder: Any) -> None:
    import pikepdf

    owner = holder.obj if isinstance(holder, pikepdf.Page) else holder
    resources = owner.get("/Resources")
    if resources is None:
        resources = pikepdf.Dictionary()
        owner["/Resources"] = resources
    states = resources.get("/ExtGState")
    if states is None:
        states = pikepdf.Dictionary()
        resources["/ExtGState"] = states
    for name, (over, mode) in _STATES.items():
        states[f"/{name}"] = pikepdf.Dictionary(OP=over, op=over, OPM=mode)


def _rewritten(holder: Any) -> bytes:
    """The operators of a page or a form, with a state before every change between black and others."""
    import pikepdf

    out: list[Any] = []
    resources = holder.resources if isinstance(holder, pikepdf.Page) else holder.get("/Resources", {})
    states = resources.get("/ExtGState", {})
    now = _State()
    stack: list[_State] = []
    for operands, operator in pikepdf.parse_content_stream(holder):
        name = str(operator)
        if name == "q":
            stack.append(replace(now))
        elif name == "Q" and stack:
            now = stack.pop()
        elif name == "gs":
            held = states.get(operands[0], {}) if hasattr(states, "get") else {}
            if "/op" in held or "/OP" in held or "/OPM" in held:
                over = bool(held.get("/op", held.get("/OP", now.own != _OUT)))
                keeps = int(held.get("/OPM", now.own == _BLACK))
                now.own = (_BLACK if keeps else _OWN) if over else _OUT
                now.is_on = ""  # partly the file's, partly one of those added
        elif name in (*_FILLS, *_STROKES):
            operands, operator = _as_black(name, operands, operator)
            is_black = _is_black(str(operator), operands)
            if name in _FILLS:
                now.fill = is_black
            else:
                now.stroke = is_black
        out.append((operands, operator))
        wanted = _BLACK if now.fill or now.stroke else now.own
        if name in ("gs", *_FILLS, *_STROKES) and wanted != now.is_on:
            out.append(([pikepdf.Name(f"/{wanted}")], pikepdf.Operator("gs")))
            now.is_on = wanted
    return pikepdf.unparse_content_stream(out)


@dataclass
class _State:
    """The state that the file asks for, the one that is on, and whether black is filled or stroked with."""

    own: str = _OUT
    is_on: str = _OUT
    fill: bool = False
    stroke: bool = False


def _as_black(name: str, operands: Any, operator: Any) -> tuple[Any, Any]:
    """Grey as black ink of C M Y K."""
    import pikepdf

    if name not in ("g", "G"):
        return operands, operator
    ink = 1.0 - float(operands[0])
    return [0, 0, 0, round(ink, 5)], pikepdf.Operator("k" if name == "g" else "K")


def _is_black(name: str, operands: Any) -> bool:
    if name not in ("k", "K") or len(operands) != 4:
        return False
    cyan, magenta, yellow, ink = (float(v) for v in operands)
    return cyan == magenta == yellow == 0.0 and ink > 0.0
