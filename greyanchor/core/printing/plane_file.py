"""Print files: TIFF of one page an ink, written band by band and whole or not at all.

Libraries write a TIFF page after page; a banner's pages would each have to be held until the one before is
complete. Here the strips of all pages are appended as they are made, and the directories, which say where
each lies, come last. What was written is noted in a journal beside the file, so that a killed run goes on
after its last whole band.
"""

from __future__ import annotations

import json
import os
import struct
import time
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each

_DEFLATE = 8
#: a plane file that may grow past this is written with 64-bit offsets
_CLASSIC = 3_500_000_000
#: seconds between notes in the journal: the most work that a kill costs
_NOTED_EVERY = 1.5
_TYPES = {"ascii": (2, 1), "short": (3, 2), "long": (4, 4), "rational": (5, 8), "long8": (16, 8)}
_FORMS = {"short": "H", "long": "I", "long8": "Q"}
WHITE_IS_ZERO, BLACK_IS_ZERO, RGB, SEPARATED = 0, 1, 2, 5


@dataclass(frozen=True)
class PlaneLayout:
    """What the pages of a file are.

    Attributes
    ----------
    width, height
        Columns and rows.
    pages
        Names, one a page: inks.
    bits
        Of a sample.
    samples
        Of a pixel; more than one for planes before halftoning, in one page.
    photometric
        `WHITE_IS_ZERO` for planes, `SEPARATED` for amounts of several inks.
    resolution
        Dots an inch.
    inks
        Names of the samples, where there are several.
    """

    width: int
    height: int
    pages: tuple[str, ...]
    bits: int
    resolution: float
    samples: int = 1
    photometric: int = WHITE_IS_ZERO
    inks: tuple[str, ...] = ()

    @property
    def row_bytes(self) -> int:
        """Bytes of a row."""
        return -(-self.width * self.samples * self.bits // 8)


class PlaneWriter:
    """Writes a file of planes; `close` puts it in its place, `abandon` leaves nothing.

    Parameters
    ----------
    path
        Where it shall stand.
    layout
        What it holds.
    rows
        Rows of a band, the same for all but the last.
    ticket
        Facts for the file's description, as JSON.
    resume
        Whether a part that a killed run left, of the same layout and ticket, is gone on with.
    """

    def __init__(
        self,
        path: str | Path,
        layout: PlaneLayout,
        rows: int,
        ticket: Mapping[str, Any],
        resume: bool = False,
    ) -> None:
        self.path = Path(path)
        self.layout = layout
        self.rows = rows
        self.ticket = json.dumps(ticket, sort_keys=True, ensure_ascii=True)
        self._part = self.path.with_name(self.path.name + ".part")
        self._journal = self.path.with_name(self.path.name + ".journal")
        self._big = layout.row_bytes * layout.height * len(layout.pages) > _CLASSIC
        self._strips: list[list[tuple[int, int]]] = [[] for _ in layout.pages]
        self.state: dict[str, Any] = {}
        self._file: IO[bytes]
        self._noted = time.monotonic()
        if not (resume and self._pick_up()):
            self._file = open(self._part, "wb")  # noqa: SIM115
            self._file.write(b"II" + (struct.pack("<HHHQ", 43, 8, 0, 0) if self._big else b"*\0\0\0\0\0"))
            self._note()

    @property
    def next_row(self) -> int:
        """The first row that is not written yet."""
        return min(len(self._strips[0]) * self.rows, self.layout.height)

    def write(self, planes: Sequence[np.ndarray[Any, Any]], state: Mapping[str, Any] | None = None) -> None:
        """Append a band: for each page its rows, packed (rows, row_bytes) or samples (rows, columns, n).

        `state` is what the next band needs to go on after a kill.
        """
        data = each(self._packed, list(planes))
        for strips, part in zip(self._strips, data):
            strips.append((self._at(), len(part)))
            self._file.write(part)
        self.state = dict(state or {})
        if time.monotonic() - self._noted > _NOTED_EVERY:
            self._note()

    def close(self, more: Mapping[str, Any] | None = None) -> Path:
        """Write the directories and put the file in its place; `more` facts join the ticket."""
        if more:
            self.ticket = json.dumps({**json.loads(self.ticket), **more}, sort_keys=True, ensure_ascii=True)
        if self.next_row != self.layout.height:
            raise BadInput(f"{self.next_row} of {self.layout.height} rows were written", self.path.name)
        at = self._directories()
        self._file.seek(8 if self._big else 4)
        self._file.write(struct.pack("<Q" if self._big else "<I", at))
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        os.replace(self._part, self.path)
        self._journal.unlink(missing_ok=True)
        return self.path

    def stop(self) -> None:
        """Let go of the part, so that another run may go on with it."""
        self._note()
        self._file.close()

    def abandon(self) -> None:
        """Remove what was written."""
        self._file.close()
        self._part.unlink(missing_ok=True)
        self._journal.unlink(missing_ok=True)

    def _packed(self, rows: np.ndarray[Any, Any]) -> bytes:
        if rows.dtype == np.uint16:
            rows = rows.astype("<u2", copy=False)
        return zlib.compress(np.ascontiguousarray(rows).tobytes(), 1)

    def _identity(self) -> str:
        return repr((self.layout, self.rows, self.ticket))

    def _note(self) -> None:
        """The journal, whole or not at all, after the bytes it speaks of."""
        self._file.flush()
        new = self._journal.with_name(self._journal.name + ".new")
        facts = {
            "of": self._identity(),
            "end": self._at(),
            "strips": self._strips,
            "state": self.state,
        }
        new.write_text(json.dumps(facts))
        os.replace(new, self._journal)
        self._noted = time.monotonic()

    def _pick_up(self) -> bool:
        try:
            facts = json.loads(self._journal.read_text())
            if facts["of"] != self._identity() or self._part.stat().st_size < facts["end"]:
                return False
        except (OSError, ValueError, KeyError):
            return False
        self._file = open(self._part, "r+b")  # noqa: SIM115
        self._file.truncate(facts["end"])
        self._file.seek(facts["end"])
        self._strips = [[(int(a), int(n)) for a, n in page] for page in facts["strips"]]
        self.state = facts["state"]
        return True

    def _directories(self) -> int:
        """Write a directory for each page; where the first begins."""
        first = 0
        self._pad()
        link = None
        for number, name in enumerate(self.layout.pages):
            at, follow = self._directory(number, name)
            if link is None:
                first = at
            else:
                self._file.seek(link)
                self._file.write(struct.pack("<Q" if self._big else "<I", at))
                self._file.seek(0, os.SEEK_END)
            link = follow
        return first

    def _directory(self, number: int, name: str) -> tuple[int, int]:
        made = self.layout
        long = "long8" if self._big else "long"
        strips = self._strips[number]
        step = (round(made.resolution * 1000), 1000)
        tags: list[tuple[int, str, Any]] = [
            (254, "long", [2 if len(made.pages) > 1 else 0]),
            (256, "long", [made.width]),
            (257, "long", [made.height]),
            (258, "short", [made.bits] * made.samples),
            (259, "short", [_DEFLATE]),
            (262, "short", [made.photometric]),
            (270, "ascii", self.ticket if number == 0 else name),
            (273, long, [at for at, _ in strips]),
            (277, "short", [made.samples]),
            (278, "long", [min(self.rows, made.height)]),
            (279, long, [size for _, size in strips]),
            (282, "rational", [step]),
            (283, "rational", [step]),
            (284, "short", [1]),
            (285, "ascii", name),
            (296, "short", [2]),
            (297, "short", [number, len(made.pages)]),
            (305, "ascii", "Grey Anchor"),
        ]
        if made.photometric == SEPARATED:
            tags.append((332, "short", [1 if made.inks == tuple("CMYK") else 2]))
            tags.append((333, "ascii", "\0".join(made.inks)))
            tags.append((334, "short", [len(made.inks)]))
        return self._write_tags(sorted(tags))

    def _write_tags(self, tags: list[tuple[int, str, Any]]) -> tuple[int, int]:
        inline = 8 if self._big else 4
        entries = b""
        for tag, kind, values in tags:
            code, size = _TYPES[kind]
            if kind == "ascii":
                data = values.encode() + b"\0"  # names of inks may have any letters
                count = len(data)
            elif kind == "rational":
                data = b"".join(struct.pack("<II", *v) for v in values)
                count = len(values)
            else:
                data = struct.pack(f"<{len(values)}{_FORMS[kind]}", *values)
                count = len(values)
            assert len(data) == count * size
            if len(data) > inline:
                at = self._pad()
                self._file.write(data)
                data = struct.pack("<Q" if self._big else "<I", at)
            head = struct.pack("<HHQ" if self._big else "<HHI", tag, code, count)
            entries += head + data.ljust(inline, b"\0")
        at = self._pad()
        self._file.write(struct.pack("<Q" if self._big else "<H", len(tags)) + entries)
        follow = self._at()
        self._file.write(b"\0" * inline)
        return at, follow

    def _at(self) -> int:
        """Where the next byte goes."""
        return self._file.seek(0, os.SEEK_CUR)

    def _pad(self) -> int:
        """Go on at an even place."""
        at = self._at()
        if at % 8:
            self._file.write(b"\0" * (8 - at % 8))
        return self._at()
