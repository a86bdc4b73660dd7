"""The product's own type in PDF: IBM Plex, embedded."""

from __future__ import annotations

from importlib.resources import files

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

REGULAR, BOLD, MONO = "Plex Sans", "Plex Sans SemiBold", "Plex Mono"
_FILES = {REGULAR: "IBMPlexSans-Regular", BOLD: "IBMPlexSans-SemiBold", MONO: "IBMPlexMono-Regular"}


def register() -> None:
    """Make the faces known to reportlab, once in a process."""
    known = set(pdfmetrics.getRegisteredFontNames())
    for name, file in _FILES.items():
        if name not in known:
            path = files("greyanchor.drawing") / "fonts" / f"{file}.ttf"
            pdfmetrics.registerFont(TTFont(name, str(path)))


def plain(text: str) -> str:
    """`text` with what the faces do not hold replaced: they hold Latin 1 and a true minus."""
    swapped = text.replace("№", "No.")
    return "".join(c if c == "\u2212" or c.encode("cp1252", "ignore") else "?" for c in swapped)
