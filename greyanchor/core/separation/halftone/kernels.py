"""The compiled inner loops of halftoning. Tones are 16 bits, 65535 for all the ink; levels are drop sizes."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def threshold_bits(tones, tile, shift, top, left, out):  # type: ignore[no-untyped-def]
    """Bits (rows, bytes), most significant first, of tones (rows, columns) above the thresholds of a screen.

    `tile` repeats along a row, and after its height moved on by `shift`; `top` and `left` are where the tones
    begin on the whole sheet.
    """
    height, width = np.uint64(tile.shape[0]), np.uint64(tile.shape[1])
    columns = np.uint64(tones.shape[1])
    for row in range(np.uint64(tones.shape[0])):
        y = np.uint64(top) + row
        line = tile[y % height]
        at = (np.uint64(left) + (y // height) * np.uint64(shift)) % width
        byte, x = np.uint64(0), np.uint64(0)
        while x < columns:
            bits = np.uint8(0)
            if x + np.uint64(8) <= columns and at + np.uint64(8) <= width:
                for i in range(np.uint64(8)):
                    bits = (bits << np.uint8(1)) | np.uint8(tones[row, x + i] > line[at + i])
                x += np.uint64(8)
                at += np.uint64(8)
                if at == width:
                    at = np.uint64(0)
            else:
                for _ in range(np.uint64(8)):
                    on = np.uint8(0)
                    if x < columns:
                        on = np.uint8(tones[row, x] > line[at])
                        at += np.uint64(1)
                        if at == width:
                            at = np.uint64(0)
                    bits = (bits << np.uint8(1)) | on
                    x += np.uint64(1)
            out[row, byte] = bits
            byte += np.uint64(1)


@njit(cache=True, nogil=True)
def threshold_levels(tones, tile, shift, top, left, cuts, out):  # type: ignore[no-untyped-def]
    """Drop sizes (rows, columns), 0 for none, of tones by the thresholds of each size (sizes, 65536)."""
    height, width = np.uint64(tile.shape[0]), np.uint64(tile.shape[1])
    for row in range(np.uint64(tones.shape[0])):
        y = np.uint64(top) + row
        line = tile[y % height]
        at = (np.uint64(left) + (y // height) * np.uint64(shift)) % width
        for x in range(np.uint64(tones.shape[1])):
            tone, limit = tones[row, x], line[at]
            level = np.uint8(0)
            for size in range(cuts.shape[0]):
                level += np.uint8(cuts[size, tone] > limit)
            out[row, x] = level
            at += np.uint64(1)
            if at == width:
                at = np.uint64(0)


@njit(cache=True, nogil=True, fastmath=True)
def diffuse(tones, errors, top, left, mask, strength, volumes, out):  # type: ignore[no-untyped-def]
    """Drop sizes (rows, columns) by error diffusion, row after row in turn from both sides.

    What a dot is too much or too little goes to its neighbours (weights of Stucki, 1981), which reach so far
    that light tones do not line up. `errors` (3, columns + 4) is what rows before left over and is renewed.
    A mask moves the decision, so that lines of dots break up where nothing in the picture asks for them.
    """
    rows, columns = tones.shape
    sizes = len(volumes)
    side = mask.shape[0]
    one = np.float32(1.0 / 42.0)
    for row in range(rows):
        y = top + row
        now, after, then = errors[y % 3], errors[(y + 1) % 3], errors[(y + 2) % 3]
        forward = y % 2 == 0
        step = 1 if forward else -1
        x = 0 if forward else columns - 1
        line = mask[y % side]
        for _ in range(columns):
            tone = np.float32(tones[row, x]) * np.float32(1.0 / 65535.0)
            value = tone + now[x + 2]
            level = 0
            if tone >= np.float32(1.0):
                level = sizes
            elif tone > np.float32(0.0):
                threshold = np.float32(line[(left + x) % side]) * np.float32(1.0 / 65535.0)
                moved = value + strength * (threshold - np.float32(0.5))
                low = np.float32(0.0)
                for size in range(sizes):
                    high = volumes[size]
                    if moved >= np.float32(0.5) * (low + high):
                        level = size + 1
                    low = high
            out[row, x] = level
            off = value - (volumes[level - 1] if level else np.float32(0.0))
            # a solid or bare paper takes no part: what is left over ends there
            if tone <= np.float32(0.0) or tone >= np.float32(1.0):
                off = min(max(off, np.float32(-0.5)), np.float32(0.5))
            off *= one
            at = x + 2
            now[at + step] += np.float32(8.0) * off
            now[at + 2 * step] += np.float32(4.0) * off
            after[at - 2] += np.float32(2.0) * off
            after[at - 1] += np.float32(4.0) * off
            after[at] += np.float32(8.0) * off
            after[at + 1] += np.float32(4.0) * off
            after[at + 2] += np.float32(2.0) * off
            then[at - 2] += off
            then[at - 1] += np.float32(2.0) * off
            then[at] += np.float32(4.0) * off
            then[at + 1] += np.float32(2.0) * off
            then[at + 2] += off
            x += step
        # what left the sheet on either side comes back to the dots beside the edge
        for later in (after, then):
            later[2] += later[0] + later[1]
            later[columns + 1] += later[columns + 2] + later[columns + 3]
            later[0] = later[1] = later[columns + 2] = later[columns + 3] = np.float32(0.0)
        now[:] = np.float32(0.0)


@njit(cache=True, nogil=True)
def pack(levels, bits, out):  # type: ignore[no-untyped-def]
    """Levels (rows, columns) as `bits` each, most significant first, into bytes (rows, bytes)."""
    each = 8 // bits
    for row in range(levels.shape[0]):
        for byte in range(out.shape[1]):
            value = 0
            for i in range(each):
                x = byte * each + i
                value = (value << bits) | (levels[row, x] if x < levels.shape[1] else 0)
            out[row, byte] = value
