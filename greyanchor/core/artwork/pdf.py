"""What is inside a PDF, read with pikepdf."""

from __future__ import annotations

import zlib
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
        why = str(error).splitlines()[0].replace(f"{path}: ", "")[:120]
        raise BadInput(f"this PDF is damaged ({why})", path.name) from error


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


#: bytes of drawing that are looked at: a page may hold any number, packed into very few
MOST_DRAWING = 3 * 2**20


def operators_of(holder: Any) -> tuple[Any, bool]:
    """Operators of a page or a form, and whether they are all: what lies past `MOST_DRAWING` is left out.

    It is unpacked no further than that, so that a small file cannot fill the memory.
    """
    import pikepdf

    held = holder.obj.get("/Contents") if isinstance(holder, pikepdf.Page) else holder
    if held is None:
        return [], True
    streams = list(held) if isinstance(held, pikepdf.Array) else [held]
    data, is_whole = b"", True
    for stream in streams:
        part = _unpacked(stream, MOST_DRAWING + 1 - len(data))
        data += part + b"\n"
        if len(data) > MOST_DRAWING:
            cut = data.rfind(b"\n", 0, MOST_DRAWING)
            data, is_whole = data[: cut if cut > 0 else MOST_DRAWING], False
            break
    with pikepdf.new() as room:
        return pikepdf.parse_content_stream(pikepdf.Stream(room, data)), is_whole


def _unpacked(stream: Any, most: int) -> bytes:
    """The first bytes of a stream."""
    filters = stream.get("/Filter")
    if filters is None:
        return bytes(stream.read_raw_bytes()[:most])
    names = [name_text(f) for f in filters] if not is_name(filters) else [name_text(filters)]
    if names in (["FlateDecode"], ["Fl"]) and "/DecodeParms" not in stream:
        try:
            return zlib.decompressobj().decompress(stream.read_raw_bytes(), most)
        except zlib.error as error:
            raise ValueError(f"a stream is damaged ({error})") from error
    return bytes(stream.read_bytes()[:most])


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
