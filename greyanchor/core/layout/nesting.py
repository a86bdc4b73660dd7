"""Pieces placed to save media.

Pieces fall one after another onto the lowest place of the skyline: the one that fits the notch best, and
among those that fit alike the first of a sequence (after Leung, Zhang and Sim, A two-stage intelligent
search algorithm for the two-dimensional strip packing problem, 2011). Sequences are searched by annealing.
"""

from __future__ import annotations

import os
import time
from collections.abc import Sequence

import numpy as np
from numba import njit

from greyanchor.core.layout.pieces import Layout, Piece, Placed, check_fits
from greyanchor.core.layout.rows import in_rows
from greyanchor.core.parallel import each

#: units in a mm: places are whole numbers, so that no rounding lets two pieces overlap
_UNIT = 1000.0
#: seconds that a search takes at most
USUAL_SECONDS = 2.0
#: how much longer, as a share, an annealing step may make a layout at first
_HEAT = 0.001
#: steps of the search between two looks at the clock
_CHUNK = 50_000_000


def save_media(
    pieces: Sequence[Piece],
    media_width: float,
    gap: float = 0.0,
    seconds: float = USUAL_SECONDS,
    seed: int = 1,
) -> Layout:
    """The shortest layout that a search of so many seconds finds; pieces that may be turned are.

    Raises `BadInput` for a piece that does not fit.
    """
    check_fits(pieces, media_width, gap)
    if not pieces:
        return Layout(media_width, ())
    strip = int(np.floor((media_width + gap) * _UNIT + 0.5))
    sizes = np.array(
        [[np.ceil((p.width + gap) * _UNIT - 1e-3), np.ceil((p.height + gap) * _UNIT - 1e-3)] for p in pieces]
    ).astype(np.int64)
    sizes = np.minimum(sizes, np.iinfo(np.int64).max // 4)
    may_turn = np.array([p.turn for p in pieces], dtype=np.bool_)
    copies = np.array([p.copies for p in pieces], dtype=np.int64)
    found = _searched(sizes, may_turn, copies, strip, seconds, seed)
    layout = _layout(pieces, found, media_width)
    plain = in_rows(pieces, media_width, gap)
    return layout if layout.length <= plain.length else plain


def _layout(pieces: Sequence[Piece], places: np.ndarray, media_width: float) -> Layout:
    count = [0] * len(pieces)
    made = []
    for kind, x, y, turned in places.tolist():
        piece = pieces[kind]
        count[kind] += 1
        wide, tall = (piece.height, piece.width) if turned else (piece.width, piece.height)
        made.append((kind, Placed(piece.id, count[kind], x / _UNIT, y / _UNIT, wide, tall, bool(turned))))
    made.sort(key=lambda pair: (pair[0], pair[1].copy))
    return Layout(media_width, tuple(placed for _, placed in made))


def _searched(
    sizes: np.ndarray, may_turn: np.ndarray, copies: np.ndarray, strip: int, seconds: float, seed: int
) -> np.ndarray:
    began = time.perf_counter()
    total = int(copies.sum())
    places = np.zeros((total, 4), dtype=np.int64)
    best = np.zeros_like(places)
    shortest, order = np.iinfo(np.int64).max, np.arange(len(sizes))
    keys = (
        -sizes.prod(axis=1).astype(float),
        -np.maximum(sizes[:, 0], sizes[:, 1]),
        -sizes.min(axis=1),
        -sizes.sum(axis=1),
        -sizes[:, 1],
    )
    for key in keys:
        tried = np.argsort(key, kind="stable")
        length, _ = fall(sizes, may_turn, copies, tried, strip, places)
        if length < shortest:
            shortest, order = int(length), tried
            best[:] = places
    floor = int(-(-(sizes.prod(axis=1) * copies).sum() // strip))
    if shortest <= floor or len(sizes) == 1:
        return best
    steps = max(20, int(_CHUNK / (total * len(sizes) * 12 + 1000)))

    def walk(number: int) -> tuple[int, np.ndarray]:
        random = np.random.default_rng([seed, number])
        own, room, current, least = best.copy(), places.copy(), order.copy(), shortest
        while least > floor and (left := seconds - (time.perf_counter() - began)) > 0:
            heat = _HEAT * (left / seconds) ** 2
            least, current = anneal(
                sizes, may_turn, copies, current, strip, room, own, least, heat, steps,
                int(random.integers(1 << 31)),
            )  # fmt: skip
        return least, own

    return min(each(walk, range(os.cpu_count() or 1)), key=lambda found: found[0])[1]


@njit(cache=True, nogil=True)
def anneal(  # type: ignore[no-untyped-def]
    sizes, may_turn, copies, order, strip, places, best, shortest, heat, steps, seed
):
    """Swap pieces of a sequence for some steps; `best` is filled where something shorter than `shortest` is
    found. Gives the shortest length and the sequence that it ended with.
    """
    np.random.seed(seed)
    n = len(order)
    now = order.copy()
    length, rest = fall(sizes, may_turn, copies, now, strip, places)
    cost = length + rest
    for _ in range(steps):
        i, j = np.random.randint(n), np.random.randint(n)
        if i == j:
            continue
        moved = np.random.random() < 0.5
        if moved:
            shift(now, i, j)
        else:
            now[i], now[j] = now[j], now[i]
        tried, rest = fall(sizes, may_turn, copies, now, strip, places)
        if tried < shortest:
            shortest = tried
            best[:] = places
        step = (tried + rest - cost) / shortest
        if step <= 0.0 or (heat > 0.0 and np.random.random() < np.exp(-step / heat)):
            cost = tried + rest
        elif moved:
            shift(now, j, i)
        else:
            now[i], now[j] = now[j], now[i]
    return shortest, now


@njit(cache=True, nogil=True)
def shift(order, start, end):  # type: ignore[no-untyped-def]
    """Take one of a sequence out and put it in elsewhere."""
    held = order[start]
    step = 1 if end > start else -1
    k = start
    while k != end:
        order[k] = order[k + step]
        k += step
    order[end] = held


@njit(cache=True, nogil=True)
def fall(sizes, may_turn, copies, order, strip, places):  # type: ignore[no-untyped-def]
    """Let pieces fall in a sequence; fills `places` (kind, x, y, turned).

    Gives the length, and how uneven its end is: the mean of what is free below it, a share of it.
    """
    total, kinds = len(places), len(sizes)
    left = copies.copy()
    x, y, w = (
        np.empty(2 * total + 4, np.int64),
        np.empty(2 * total + 4, np.int64),
        np.empty(2 * total + 4, np.int64),
    )
    x[0], y[0], w[0] = 0, 0, strip
    count, done, length = 1, 0, 0
    while done < total:
        low = 0
        for k in range(1, count):
            if y[k] < y[low]:
                low = k
        wide = w[low]
        wall_left = y[low - 1] - y[low] if low > 0 else -1
        wall_right = y[low + 1] - y[low] if low + 1 < count else -1
        if wall_left < 0:
            wall_left = wall_right if wall_right > 0 else 0
            edge_left = True
        else:
            edge_left = False
        if wall_right < 0:
            wall_right = wall_left
        tall, short = max(wall_left, wall_right), min(wall_left, wall_right)
        chosen, turned, score = -1, 0, -1
        for place in range(kinds):
            kind = order[place]
            if left[kind] == 0:
                continue
            for turn in range(2):
                if turn == 1 and (not may_turn[kind] or sizes[kind, 0] == sizes[kind, 1]):
                    continue
                a, b = sizes[kind, turn], sizes[kind, 1 - turn]
                if a > wide:
                    continue
                if a == wide:
                    fit = 6 if b == tall else 5 if b == short else 4 if b < short else 3
                elif b == tall:
                    fit = 2
                elif b == short:
                    fit = 1
                else:
                    fit = 0
                if fit > score:
                    chosen, turned, score = kind, turn, fit
            if score == 6:
                break
        if chosen < 0:
            # nothing fits: the notch is filled up to the lower wall
            up = y[low - 1] if low > 0 else y[low + 1]
            if low > 0 and low + 1 < count:
                up = min(y[low - 1], y[low + 1])
            y[low] = up
            if low + 1 < count and y[low + 1] == up:
                w[low] += w[low + 1]
                for k in range(low + 1, count - 1):
                    x[k], y[k], w[k] = x[k + 1], y[k + 1], w[k + 1]
                count -= 1
            if low > 0 and y[low - 1] == up:
                w[low - 1] += w[low]
                for k in range(low, count - 1):
                    x[k], y[k], w[k] = x[k + 1], y[k + 1], w[k + 1]
                count -= 1
            continue
        a, b = sizes[chosen, turned], sizes[chosen, 1 - turned]
        to_left = edge_left or wall_left >= wall_right
        at = x[low] if to_left else x[low] + wide - a
        places[done, 0], places[done, 1], places[done, 2], places[done, 3] = chosen, at, y[low], turned
        left[chosen] -= 1
        done += 1
        top = y[low] + b
        length = max(length, top)
        if a == wide:
            y[low] = top
            first = low
        else:
            for k in range(count, low, -1):
                x[k], y[k], w[k] = x[k - 1], y[k - 1], w[k - 1]
            count += 1
            if to_left:
                w[low], y[low] = a, top
                x[low + 1], w[low + 1] = x[low + 1] + a, wide - a
                first = low
            else:
                w[low] = wide - a
                x[low + 1], y[low + 1], w[low + 1] = at, top, a
                first = low + 1
        if first + 1 < count and y[first + 1] == y[first]:
            w[first] += w[first + 1]
            for k in range(first + 1, count - 1):
                x[k], y[k], w[k] = x[k + 1], y[k + 1], w[k + 1]
            count -= 1
        if first > 0 and y[first - 1] == y[first]:
            w[first - 1] += w[first]
            for k in range(first, count - 1):
                x[k], y[k], w[k] = x[k + 1], y[k + 1], w[k + 1]
            count -= 1
    free = 0.0
    for k in range(count):
        free += float(length - y[k]) * w[k]
    return length, 0.05 * free / strip
