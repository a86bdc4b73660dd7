"""Rows of print files, read where they stand: strips are decompressed one at a time."""

from __future__ import annotations

import json
import zlib
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from greyanchor.core.errors import BadInput

Rows = np.ndarray[Any, Any]
_DEFLATE = (8, 32946)


class PlaneReader:
    """A print file that this program wrote: one page an ink, in strips of whole rows.

    Raises `BadInput` for a file that is none.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path)
        try:
            with tifffile.TiffFile(self.path) as file:
                pages = list(file.pages)
                first: Any = pages[0]
                self.height, self.width = int(first.shape[0]), int(first.shape[1])
                self.bits = int(first.bitspersample)
                self.inks = tuple(str(p.tags["PageName"].value) for p in pages)
                across = first.tags["XResolution"].value
                self.ticket: dict[str, Any] = json.loads(first.description or "{}")
                self._rows = int(first.rowsperstrip)
                self._strips = [list(zip(p.dataoffsets, p.databytecounts)) for p in pages]
                if any(p.compression not in _DEFLATE for p in pages):
                    raise BadInput("its planes are not compressed as print files are", self.path.name)
        except (tifffile.TiffFileError, KeyError, IndexError, OSError, ValueError) as error:
            if isinstance(error, BadInput):
                raise
            raise BadInput(f"it is no print file ({error})", self.path.name) from error
        self.resolution = across[0] / across[1]
        self._held: list[tuple[int, Rows]] = [(-1, np.zeros((0, 0), np.uint8))] * len(self.inks)

    @property
    def row_bytes(self) -> int:
        """Bytes of a row."""
        return -(-self.width * self.bits // 8)

    def rows(self, page: int, first: int, last: int) -> Rows:
        """Packed rows (n, row_bytes) of a page, from row `first` up to `last`."""
        parts = []
        for number in range(first // self._rows, -(-last // self._rows)):
            top = number * self._rows
            strip = self._strip(page, number)
            parts.append(strip[max(first - top, 0) : last - top])
        return np.concatenate(parts) if parts else np.zeros((0, self.row_bytes), np.uint8)

    def _strip(self, page: int, number: int) -> Rows:
        held, strip = self._held[page]
        if held == number:
            return strip
        at, size = self._strips[page][number]
        with open(self.path, "rb") as file:
            file.seek(at)
            data = file.read(size)
        try:
            strip = np.frombuffer(zlib.decompress(data), np.uint8).reshape(-1, self.row_bytes)
        except (zlib.error, ValueError) as error:
            raise BadInput(f"its plane {self.inks[page]} is damaged", self.path.name) from error
        self._held[page] = (number, strip)
        return strip
