"""A picture prepared for a printer: band after band through colour, halftone and file.

A picture coarser than the printer is not converted at the printer's resolution: it is enlarged, cubic, to
half of that, its colours become amounts of ink there, and those are enlarged, linear, to every dot.
"""

from __future__ import annotations

import resource
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numba import njit

from greyanchor.core.artwork.pictures import Picture
from greyanchor.core.errors import BadInput
from greyanchor.core.parallel import each
from greyanchor.core.printing.ink_load import LOAD_AT_FULL
from greyanchor.core.printing.plane_file import (
    RGB,
    SEPARATED,
    WHITE_IS_ZERO,
    PlaneLayout,
    PlaneWriter,
)
from greyanchor.core.separation.coming_out import ComingOut, Judged, coming_out
from greyanchor.core.separation.halftone.screens import Screen, ScreenSpec
from greyanchor.core.separation.layers import AnyConversion, AnyLink, conversion_of
from greyanchor.core.separation.resampling import Bands, Enlarged, EnlargedPlanes, Part, needed

Pixels = np.ndarray[Any, Any]
Progress = Callable[[float], None]
Window = tuple[int, int, int, int]
#: pixels of a band, so that all its stages stay within memory
_BAND_PIXELS = 4_000_000
#: dots of a print at most: a banner of 1.5 x 20 m at 600 dpi has 17 thousand million
MOST_DOTS = 60_000_000_000
MOST_SIDE = 2_000_000
#: pixels that a picture is judged by
JUDGED_PIXELS = 160_000


def quiet(share: float) -> None:
    """Progress that nobody watches."""


class ToInks(Protocol):
    """From pixels to amounts of ink."""

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each."""
        ...

    def convert(self, pixels: Pixels) -> Pixels:
        """Amounts (..., inks), 16 bits, of pixels (..., channels)."""
        ...


@dataclass(frozen=True)
class Frame:
    """A page in dots, and the part of it that is printed.

    Attributes
    ----------
    columns, rows
        Of the whole page.
    window
        Left, top, columns and rows of the part.
    resolution
        Dots an inch.
    margin
        Bare dots around the part.
    """

    columns: int
    rows: int
    window: Window
    resolution: float
    margin: int = 0

    @property
    def size(self) -> tuple[int, int]:
        """Columns and rows of what is printed, with its margin."""
        return self.window[2] + 2 * self.margin, self.window[3] + 2 * self.margin

    def __post_init__(self) -> None:
        if max(self.columns, self.rows) > MOST_SIDE or self.window[2] * self.window[3] > MOST_DOTS:
            raise BadInput(
                f"{self.window[2]} x {self.window[3]} dots are more than can be printed at once: choose a "
                "smaller size or a lower resolution"
            )


@dataclass(frozen=True)
class Prepared:
    """What was made.

    Attributes
    ----------
    path
        The print file.
    width, height
        Columns and rows.
    resolution
        Dots an inch.
    inks
        Planes in order.
    ink_ml
        Liquid ink by plane.
    coming_out
        How the picture's colours come out.
    seconds
        What it took.
    pixels
        That were prepared now; fewer than all where a killed run was gone on with.
    notes
        What was done to the picture.
    """

    path: Path
    width: int
    height: int
    resolution: float
    inks: tuple[str, ...]
    ink_ml: Mapping[str, float]
    coming_out: ComingOut
    seconds: float
    pixels: int
    notes: tuple[str, ...] = field(default_factory=tuple)

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "width": self.width,
            "height": self.height,
            "resolution": round(self.resolution, 3),
            "inks": list(self.inks),
            "ink_ml": {c: round(v, 4) for c, v in self.ink_ml.items()},
            **self.coming_out.facts(),
            "seconds": round(self.seconds, 3),
            "peak_mb": round(peak_mb(), 1),
            "megapixels_per_second": round(self.pixels / max(self.seconds, 1e-9) / 1e6, 3),
            "notes": list(self.notes),
        }


def peak_mb() -> float:
    """The most memory that this process held, MB.

    What the system counts for a process begins with what its parent held, so that it comes second.
    """
    try:
        status = Path("/proc/self/status").read_text()
        return float(status.split("VmHWM:")[1].split()[0]) / 1024.0
    except (OSError, IndexError, ValueError):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def sample(picture: Picture, pixels: int = JUDGED_PIXELS) -> Pixels:
    """A small version (rows, columns, channels) of a picture, for judging it."""
    share = min(1.0, (pixels / (picture.width * picture.height)) ** 0.5)
    columns, rows = max(1, round(picture.width * share)), max(1, round(picture.height * share))
    return picture.scaled(columns, rows).pixels()


def prepare_planes(
    picture: Picture,
    frame: Frame,
    link: AnyLink,
    screen: ScreenSpec,
    path: str | Path,
    judged: Pixels,
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
    resume: bool = False,
) -> Prepared:
    """Halftoned planes of a part of a picture, one page an ink.

    `judged` is a small version of the part (see `sample`). `report` hears the share that is done and may
    raise to stop; what was written then stays for another run with `resume`, unless it raises `BadInput`.
    """
    conversion = conversion_of(link)
    inks, (width, height) = conversion.inks, frame.size
    screens = [Screen(screen.of_ink(ink), frame.resolution, width, i) for i, ink in enumerate(inks)]
    layout = PlaneLayout(width, height, inks, screen.bits, frame.resolution)
    facts = {"screen": str(screen), "inks": list(inks), **(ticket or {})}
    rows = max(8, _BAND_PIXELS // width // 8 * 8)
    writer = PlaneWriter(path, layout, rows, facts, resume)
    _restore(screens, writer.state)
    inner, edge = frame.window[3], frame.margin
    planes = planes_reader(picture, frame, conversion, max(writer.next_row - edge, 0))

    def made(first: int, last: int, sums: Pixels) -> list[Pixels]:
        top, bottom = max(first - edge, 0), min(last - edge, inner)
        if bottom > top:
            tones = planes(top, bottom)
            sums += each(lambda plane: _sum(plane.reshape(-1)), list(tones))
        else:
            tones = np.zeros((len(inks), 0, frame.window[2]), dtype=np.uint16)
        if edge:
            above = max(min(edge - first, last - first), 0)
            below = last - first - above - tones.shape[1]
            tones = np.pad(tones, ((0, 0), (above, below), (edge, edge)))
        return each(lambda i: screens[i].packed(tones[i], first), range(len(inks)))

    return _written(writer, frame, conversion, picture, made, lambda: _state(screens), judged, report)


def prepare_contone(
    picture: Picture,
    frame: Frame,
    link: AnyLink,
    path: str | Path,
    judged: Pixels,
    bits: int = 8,
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
) -> Prepared:
    """Amounts of all inks before halftoning, 8 or 16 bits, in one page."""
    conversion = conversion_of(link)
    inks, width, height = conversion.inks, frame.window[2], frame.window[3]
    kind = RGB if inks == tuple("RGB") else SEPARATED if len(inks) > 1 else WHITE_IS_ZERO
    layout = PlaneLayout(width, height, ("planes",), bits, frame.resolution, len(inks), kind, inks)
    writer = PlaneWriter(
        path, layout, max(8, _BAND_PIXELS // width // 8 * 8), {"inks": list(inks), **(ticket or {})}
    )
    source = _colours(picture, frame.window, (frame.columns, frame.rows), 0)

    def made(first: int, last: int, sums: Pixels) -> list[Pixels]:
        tones = conversion.convert(source.rows(first, last))
        sums += [_sum(tones[:, :, i].reshape(-1)) for i in range(len(inks))]
        return [tones if bits == 16 else ((tones.astype(np.uint32) + 128) // 257).astype(np.uint8)]

    return _written(writer, frame, conversion, picture, made, dict, judged, report)


def _written(
    writer: PlaneWriter,
    frame: Frame,
    conversion: AnyConversion,
    picture: Picture,
    made: Callable[[int, int, Pixels], list[Pixels]],
    state: Callable[[], dict[str, Any]],
    judged: Pixels,
    report: Progress,
) -> Prepared:
    began = time.perf_counter()
    width, height = frame.size
    start = writer.next_row
    sums = np.array(writer.state.get("sums", [0.0] * len(conversion.inks)))
    try:
        for top in range(start, height, writer.rows):
            last = min(top + writer.rows, height)
            writer.write(made(top, last, sums), {"sums": sums.tolist(), **state()})
            report(last / height)
        square_metres = width * height * (0.0254 / frame.resolution) ** 2
        ml = LOAD_AT_FULL * square_metres * sums / (65535.0 * width * height)
        # what a printer that takes R G B lays down, its driver alone knows
        ink_ml = {} if conversion.inks == tuple("RGB") else dict(zip(conversion.inks, ml.tolist()))
        done = writer.close({"ink_ml": {c: round(v, 4) for c, v in ink_ml.items()}})
    except ValueError:  # of which BadInput is one: the picture itself cannot be printed
        writer.abandon()
        raise
    except BaseException:
        writer.stop()
        raise
    return Prepared(
        done,
        width,
        height,
        frame.resolution,
        conversion.inks,
        ink_ml,
        coming_out(conversion.link, Judged.of(judged)),
        time.perf_counter() - began,
        (height - start) * width,
        picture.notes,
    )


def _colours(picture: Picture, window: Window, whole: tuple[int, int], start: int) -> Bands | Enlarged:
    """The colours of a window of a picture that is `whole` columns and rows large, from row `start`."""
    left, top, width, height = window
    if picture.width >= whole[0] and picture.height >= whole[1]:
        shown = picture.scaled(*whole).cropped(left, top, width, height)
        return Bands(shown.reader(), width, height, start)
    x0, x1 = needed(left, width, picture.width, whole[0])
    y0, y1 = needed(top, height, picture.height, whole[1])
    near = picture.cropped(x0, y0, x1 - x0, y1 - y0)
    source = Part(Bands(near.reader(), near.width, near.height), x0, y0, picture.width, picture.height)
    return Enlarged(source, whole, window)


def planes_reader(
    picture: Picture, frame: Frame, conversion: ToInks, start: int
) -> Callable[[int, int], Pixels]:
    """Gives planes (inks, rows, columns) of rows of the frame's window, from row `start` on."""
    whole, (left, top, width, height) = (frame.columns, frame.rows), frame.window
    half = (-(-whole[0] // 2), -(-whole[1] // 2))
    if picture.width >= whole[0] and picture.height >= whole[1]:
        source = _colours(picture, frame.window, whole, start)

        def straight(first: int, last: int) -> Pixels:
            return np.ascontiguousarray(conversion.convert(source.rows(first, last)).transpose(2, 0, 1))

        return straight
    size = half if picture.width < half[0] else (picture.width, picture.height)
    x0, x1 = needed(left, width, size[0], whole[0])
    y0, y1 = needed(top, height, size[1], whole[1])
    coarse = _colours(picture, (x0, y0, x1 - x0, y1 - y0), size, 0)
    amounts = Bands(lambda a, b: conversion.convert(coarse.rows(a, b)), x1 - x0, y1 - y0)
    return EnlargedPlanes(Part(amounts, x0, y0, *size), whole, frame.window).rows


@njit(cache=True, nogil=True)
def _sum(values):  # type: ignore[no-untyped-def]
    total = np.uint64(0)
    for i in range(np.uint64(len(values))):
        total += np.uint64(values[i])
    return np.float64(total)


def _state(screens: list[Screen]) -> dict[str, Any]:
    """What error diffusion carries from band to band."""
    carried = [s.errors.tobytes().hex() for s in screens if hasattr(s, "errors")]
    return {"errors": carried} if carried else {}


def _restore(screens: list[Screen], state: Mapping[str, Any]) -> None:
    for screen, text in zip(screens, state.get("errors", [])):
        screen.errors[:] = np.frombuffer(bytes.fromhex(text), dtype=np.float32).reshape(screen.errors.shape)


def planes_of(
    picture: Picture, whole: tuple[int, int], window: Window, resolution: float, conversion: AnyConversion
) -> Pixels:
    """Planes (inks, rows, columns) of 16-bit amounts over a window of a page of `whole` columns and rows."""
    frame = Frame(*whole, window, resolution)
    return planes_reader(picture, frame, conversion, 0)(0, window[3])


def small(picture: Picture, part: tuple[float, float, float, float]) -> Pixels:
    """A small version of a part of a picture, given in shares."""
    left, top, wide, tall = part
    whole = replace(picture)
    if part != (0.0, 0.0, 1.0, 1.0):
        x0, y0 = int(left * picture.width), int(top * picture.height)
        x1 = min(picture.width, max(x0 + 1, round((left + wide) * picture.width)))
        y1 = min(picture.height, max(y0 + 1, round((top + tall) * picture.height)))
        whole = picture.cropped(x0, y0, x1 - x0, y1 - y0)
    return sample(whole)
