"""Pictures made larger row after row: cubic for colours, linear for amounts of ink.

Colours may overshoot a little at an edge, which keeps it sharp, and are held to their range. Amounts of ink
are never more than their neighbours' together, so that no limit is passed between two pixels.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numba import njit

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.parallel import each

Pixels = np.ndarray[Any, Any]


class Rows(Protocol):
    """Pixels that are asked for from the top down.

    Attributes
    ----------
    height, width
        Of the whole.
    """

    height: int
    width: int

    def rows(self, first: int, last: int) -> Pixels:
        """Rows `first` to `last` (rows, columns, channels); `first` never goes back."""
        ...


class Bands:
    """Rows out of a source that gives them in bands.

    Parameters
    ----------
    read
        Gives rows ``first`` to ``last``; called for rows in order, each once.
    """

    def __init__(self, read: Callable[[int, int], Pixels], width: int, height: int, start: int = 0) -> None:
        self._read = read
        self.width, self.height = width, height
        self._first = self._next = start
        self._held: Pixels | None = None

    def rows(self, first: int, last: int) -> Pixels:
        """See `Rows`."""
        if self._held is None:
            self._first = self._next = max(first, self._next)
        if last > self._next:
            fresh = self._read(self._next, last)
            kept = self._held[max(first - self._first, 0) :] if self._held is not None else fresh[:0]
            self._held = np.concatenate([kept, fresh]) if len(kept) else fresh
            self._first = self._next - len(kept)
            self._next = last
        assert self._held is not None
        return self._held[first - self._first : last - self._first]


def _positions(first: int, last: int, size: int, whole: int, offset: int) -> Array:
    """Where output places lie among `size` input places, when `whole` of them cover the same."""
    return (np.arange(first, last) + offset + 0.5) * (size / whole) - 0.5


def _cubic_taps(at: Array, size: int) -> tuple[Pixels, Pixels]:
    """Indices (n, 4) and weights (n, 4) of cubic convolution (Keys, 1981, a = -1/2)."""
    low = np.floor(at).astype(np.int64)
    t = (at - low)[:, None]
    near = [1.0 + t, t, 1.0 - t, 2.0 - t]
    weights = np.hstack([_keys(d) for d in near])
    index = np.clip(low[:, None] + np.arange(-1, 3), 0, size - 1)
    return index, weights.astype(np.float32)


def _keys(d: Array) -> Array:
    inner = 1.5 * d**3 - 2.5 * d**2 + 1.0
    outer = -0.5 * d**3 + 2.5 * d**2 - 4.0 * d + 2.0
    return np.where(d <= 1.0, inner, np.where(d < 2.0, outer, 0.0))


def _linear_taps(at: Array, size: int) -> tuple[Pixels, Pixels]:
    low = np.floor(at).astype(np.int64)
    share = (at - low).astype(np.float32)
    index = np.clip(np.stack([low, low + 1], axis=1), 0, size - 1)
    return index, np.stack([1.0 - share, share], axis=1).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _cubic(given, rows, down, columns, across, full, out):  # type: ignore[no-untyped-def]
    """`given` (rows, columns, k) onto `out`; `rows` and `columns` name four places each."""
    width, k = given.shape[1], given.shape[2]
    line = np.empty(width * k, dtype=np.float32)
    for y in range(out.shape[0]):
        a, b, c, d = given[rows[y, 0]], given[rows[y, 1]], given[rows[y, 2]], given[rows[y, 3]]
        p, q, r, s = down[y, 0], down[y, 1], down[y, 2], down[y, 3]
        for x in range(width):
            for i in range(k):
                line[x * k + i] = p * a[x, i] + q * b[x, i] + r * c[x, i] + s * d[x, i]
        for x in range(np.uint32(out.shape[1])):
            e, f = columns[x, 0] * np.uint32(k), columns[x, 1] * np.uint32(k)
            g, h = columns[x, 2] * np.uint32(k), columns[x, 3] * np.uint32(k)
            t, u, v, w = across[x, 0], across[x, 1], across[x, 2], across[x, 3]
            for i in range(np.uint32(k)):
                value = t * line[e + i] + u * line[f + i] + v * line[g + i] + w * line[h + i]
                out[y, x, i] = np.int32(min(max(value, np.float32(0.0)), full) + np.float32(0.5))


@njit(cache=True, nogil=True, fastmath=True)
def _linear(given, rows, down, columns, across, out):  # type: ignore[no-untyped-def]
    """Amounts `given` (rows, columns, inks) onto planes `out` (inks, rows, columns)."""
    width, m = given.shape[1], given.shape[2]
    line = np.empty(width, dtype=np.float32)
    for i in range(m):
        plane = out[i]
        for y in range(plane.shape[0]):
            above, below = given[rows[y, 0]], given[rows[y, 1]]
            p, q = down[y, 0], down[y, 1]
            for x in range(width):
                line[x] = p * above[x, i] + q * below[x, i]
            target = plane[y]
            for x in range(np.uint32(target.shape[0])):
                value = across[x, 0] * line[columns[x, 0]] + across[x, 1] * line[columns[x, 1]]
                target[x] = np.uint16(np.int32(value + np.float32(0.5)))


@dataclass(frozen=True)
class Part:
    """A window of a picture that is enlarged.

    Attributes
    ----------
    source
        Gives the window.
    left, top
        Where it lies.
    columns, rows
        Of the whole picture.
    """

    source: Rows
    left: int
    top: int
    columns: int
    rows: int


class _Enlarging:
    """What both ways of enlarging share: which places of the source each row and column is made of.

    Parameters
    ----------
    given
        What is enlarged.
    whole
        Columns and rows of the enlarged whole.
    window
        Left, top, columns and rows of the part that is made.
    """

    taps: Callable[[Array, int], tuple[Pixels, Pixels]]

    def __init__(self, given: Part, whole: tuple[int, int], window: tuple[int, int, int, int]) -> None:
        self.given = given
        self._whole = whole
        left, self._top, self.width, self.height = window
        at = _positions(0, self.width, given.columns, whole[0], left)
        columns, self.across = type(self).taps(at, given.columns)
        self.columns = (columns - given.left).astype(np.uint32)

    def source_rows(self, first: int, last: int) -> tuple[Pixels, Pixels, Pixels]:
        """Pixels of the source, and which of them with what weight make rows `first` to `last`."""
        at = _positions(first, last, self.given.rows, self._whole[1], self._top)
        index, weights = type(self).taps(at, self.given.rows)
        low, high = int(index.min()), int(index.max()) + 1
        pixels = self.given.source.rows(low - self.given.top, high - self.given.top)
        return pixels, (index - low).astype(np.uint32), weights


class Enlarged(_Enlarging):
    """Rows of colours, cubic."""

    taps = staticmethod(_cubic_taps)

    def rows(self, first: int, last: int) -> Pixels:
        """See `Rows`."""
        given, index, weights = self.source_rows(first, last)
        out = np.empty((last - first, self.width, given.shape[2]), dtype=given.dtype)
        full = np.float32(np.iinfo(given.dtype).max)

        def part(span: slice) -> None:
            _cubic(given, index[span], weights[span], self.columns, self.across, full, out[span])

        each(part, _spans(last - first))
        return out


class EnlargedPlanes(_Enlarging):
    """Planes of amounts, linear."""

    taps = staticmethod(_linear_taps)

    def rows(self, first: int, last: int) -> Pixels:
        """Planes (inks, rows, columns) of rows `first` to `last`; `first` never goes back."""
        given, index, weights = self.source_rows(first, last)
        out = np.empty((given.shape[2], last - first, self.width), dtype=np.uint16)

        def part(span: slice) -> None:
            _linear(given, index[span], weights[span], self.columns, self.across, out[:, span])

        each(part, _spans(last - first))
        return out


def _spans(count: int, parts: int = 8) -> list[slice]:
    step = max(1, -(-count // parts))
    return [slice(i, min(i + step, count)) for i in range(0, count, step)]


def needed(first: int, count: int, size: int, whole: int, reach: int = 2) -> tuple[int, int]:
    """First and last of `size` places that are read for `count` places from `first` of `whole`."""
    at = _positions(first, first + count, size, whole, 0)
    return max(0, int(np.floor(at[0])) - reach + 1), min(size, int(np.floor(at[-1])) + reach + 1)
