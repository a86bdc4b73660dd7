"""What is inside a PDF, read with pikepdf."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput


def open_pdf(path: Path) -> Any:
    """An open PDF. Raises `BadInput`, naming the file, for a damaged or a locked one."""
    import pikepdf

    try:
        return pikepdf.open(path)
    except pikepdf.PasswordError as error:
        raise BadInput("it is locked by a password: send it without one", path.name) from error
    except (pikepdf.PdfError, ValueError, RecursionError) as error:
        raise BadInput(f"this PDF is damaged ({str(error).splitlines()[0][:120]})", path.name) from error


def is_name(value: Any) -> bool:
    """Whether an object is a name."""
    import pikepdf

    return isinstance(value, pikepdf.Object) and value._type_name == "name"


def name_text(value: Any) -> str:
    """A name without its stroke, whatever bytes it holds: UTF-8 where it is, Latin-1 elsewhere."""
    raw = bytes(value) if is_name(value) else str(value).encode("utf-8", "surrogateescape")
    try:
        return raw.decode("utf-8").removeprefix("/")
    except UnicodeDecodeError:
        return raw.decode("latin-1").removeprefix("/")


def page_box(path: Path, number: int) -> tuple[float, float]:
    """Width and height in points of a page, from 1, as it is seen: its crop box, turned, in user units."""
    with open_pdf(path) as pdf:
        return box_of(page_of(pdf, number, path.name))


def page_of(pdf: Any, number: int, name: str) -> Any:
    """A page, from 1. Raises `BadInput` where there is none."""
    count = len(pdf.pages)
    if not 1 <= number <= count:
        raise BadInput(f"it has {count} page{'s' * (count != 1)}, not {number}", name)
    return pdf.pages[number - 1]


def box_of(page: Any) -> tuple[float, float]:
    """Width and height in points of a page as it is seen."""
    left, bottom, right, top = (float(v) for v in page.cropbox)
    width, height = abs(right - left), abs(top - bottom)
    unit = float(page.obj.get("/UserUnit", 1.0))
    if int(page.obj.get("/Rotate", 0)) % 180:
        width, height = height, width
    if not (width > 0 and height > 0):
        raise BadInput("a page of it has no size")
    return width * unit, height * unit
