"""Pieces placed to save media, on strips whose best layout is known, beside another library."""

from __future__ import annotations

import sys
import time

import numpy as np
import rectpack

from benchmarks.report import missed, report
from greyanchor.core.layout.nesting import save_media
from greyanchor.core.layout.pieces import Piece, overlapping
from tests.core.test_layout import cut_strip

#: pieces, and the strip that they are cut from, mm
STRIPS = {17: (200, 200), 25: (400, 150), 29: (600, 300), 49: (600, 600), 73: (600, 900), 97: (800, 1200),
          197: (1600, 2400)}  # fmt: skip
_EACH = 3


def everything() -> None:
    """Length over the best possible, for ours and for the other's best of all its ways."""
    print("\nPieces on media, length over the best possible")
    save_media([Piece("a", 10, 10, 1, True), Piece("b", 5, 5)], 100.0, 0.0, 0.1)
    ours, others, slowest, overlaps = [], [], 0.0, 0
    for count, (width, length) in STRIPS.items():
        for seed in range(_EACH):
            random = np.random.default_rng(1000 * count + seed)
            parts = cut_strip(width, length, count, random)
            parts = [parts[i] if random.random() < 0.5 else parts[i][::-1] for i in random.permutation(count)]
            pieces = [Piece(str(i), float(w), float(h), 1, True) for i, (w, h) in enumerate(parts)]
            began = time.perf_counter()
            found = save_media(pieces, float(width))
            slowest = max(slowest, time.perf_counter() - began)
            overlaps += len(overlapping(found.placed))
            ours.append(100.0 * (found.length / length - 1.0))
            others.append(100.0 * (_other(parts, width, length) / length - 1.0))
        mean, other = np.mean(ours[-_EACH:]), np.mean(others[-_EACH:])
        print(f"    {count:4d} pieces: {mean:.2f} %, rectpack {other:.2f} %")
    report("mean of all strips", float(np.mean(ours)), 4.0, "%")
    report(
        "against rectpack's best (its mean is the goal)", float(np.mean(ours)), float(np.mean(others)), "%"
    )
    report("slowest", slowest, 3.0, "s")
    report("pieces over one another", float(overlaps), 0.0, "")


def _other(parts: list[tuple[int, int]], width: int, length: int) -> float:
    """The shortest of all ways that the other library has, its strip made shorter until it does not fit."""
    ways = [
        getattr(rectpack, name)
        for name in dir(rectpack)
        if name.startswith(("MaxRects", "Skyline", "Guillotine"))
        and isinstance(getattr(rectpack, name), type)
    ]
    best = float("inf")
    for way in ways:
        for sort in (rectpack.SORT_AREA, rectpack.SORT_SSIDE, rectpack.SORT_LSIDE, rectpack.SORT_PERI):
            packer = rectpack.newPacker(
                rectpack.PackingMode.Offline, rectpack.PackingBin.BFF, way, sort, True
            )
            for w, h in parts:
                packer.add_rect(w, h)
            packer.add_bin(width, 3 * length)
            packer.pack()
            placed = packer.rect_list()
            if len(placed) == len(parts):
                best = min(best, max(y + h for _, _, y, _, h, _ in placed))
    return best


if __name__ == "__main__":
    everything()
    sys.exit(1 if missed else 0)
