"""Words as dots, for marks on prints."""

from __future__ import annotations

import textwrap
from typing import Any

import numpy as np
from PIL import Image, ImageDraw, ImageFont

Mask = np.ndarray[Any, np.dtype[np.bool_]]


def words(text: str, height: int, width: int) -> Mask:
    """Dots (rows, columns) of one line of words, `height` dots high and cut off at `width` dots."""
    font = ImageFont.load_default(max(height * 0.8, 4.0))
    shown = text
    if font.getlength(text) > width:
        room = max(1, int(len(text) * width / font.getlength(text)) - 1)
        has_words = " " in text[:room]
        shown = textwrap.shorten(text, room, placeholder="…") if has_words else f"{text[: room - 1]}…"
    wide = min(max(1, round(font.getlength(shown)) + 2), max(width, 1))
    image = Image.new("L", (wide, max(height, 1)), 0)
    ImageDraw.Draw(image).text((0, 0), shown, fill=255, font=font)
    return np.asarray(image) >= 128
