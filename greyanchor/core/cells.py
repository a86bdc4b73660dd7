"""Cells of tables for other programs: what a spreadsheet would run as a formula is made harmless."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator
from typing import Any

_BEGINS = ("=", "+", "-", "@", "\t", "\r", "\n")


def harmless(cell: Any) -> Any:
    """A cell as it may be written: text that begins like a formula gets an apostrophe before it, as OWASP
    advises against CSV injection; numbers stay as they are.
    """
    if not isinstance(cell, str) or not cell.lstrip(" ").startswith(_BEGINS):
        return cell
    try:
        float(cell)
    except ValueError:
        return f"'{cell}"
    return cell


def as_meant(cell: str) -> str:
    """What `harmless` made of a text, back as it was."""
    return cell[1:] if cell[:1] == "'" and harmless(cell[1:]) == cell else cell


class Writer:
    """A writer of CSV whose cells are `harmless`; `out` has a ``write``, further options are those of
    `csv.writer`.
    """

    def __init__(self, out: Any, **options: Any) -> None:
        self._writer = csv.writer(out, **options)

    def writerow(self, row: Iterable[Any]) -> Any:
        return self._writer.writerow([harmless(c) for c in row])

    def writerows(self, rows: Iterable[Iterable[Any]]) -> None:
        for row in rows:
            self.writerow(row)


class _Echo:
    """Gives what is written to it."""

    def write(self, line: str) -> str:
        return line


def lines(rows: Iterable[Iterable[Any]]) -> Iterator[str]:
    """Rows as lines of CSV, one at a time; their cells are `harmless`."""
    writer = Writer(_Echo())
    for row in rows:
        yield writer.writerow(row)
