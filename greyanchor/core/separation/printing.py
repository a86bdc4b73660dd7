"""Artwork file to print file: the choices of the command and of a job, made one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from greyanchor.core.artwork.opening import open_artwork
from greyanchor.core.artwork.pictures import KINDS, Picture
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.icc import IccProfile
from greyanchor.core.separation.coming_out import Rectangle
from greyanchor.core.separation.default_sources import source_of
from greyanchor.core.separation.halftone.screens import OF_ENVIRONMENT, ScreenSpec
from greyanchor.core.separation.layers import AnyLink, LayeredLink
from greyanchor.core.separation.link import DeviceLink, LinkSettings, ModeInks
from greyanchor.core.separation.prepare import (
    Frame,
    Prepared,
    Progress,
    prepare_contone,
    prepare_planes,
    quiet,
    small,
)
from greyanchor.core.separation.profiles import ProfileColour
from greyanchor.core.separation.spots import SpotInk


@dataclass(frozen=True)
class Shape:
    """What part of a page is printed, and how large.

    Attributes
    ----------
    page
        From 1.
    width_mm
        Width of the whole page as printed, before it is turned; None for its own size.
    crop
        Left, top, width and height of what is printed, in shares of the page; None for all of it.
    quarters
        Turns clockwise.
    mirrored
        For the back of glass or film.
    margin_mm
        Bare media around what is printed; planes before halftoning have none.
    """

    page: int = 1
    width_mm: float | None = None
    crop: tuple[float, float, float, float] | None = None
    quarters: int = 0
    mirrored: bool = False
    margin_mm: float = 0.0

    def __post_init__(self) -> None:
        if self.width_mm is not None and not 1.0 <= self.width_mm <= 100_000.0:
            raise BadInput(f"a width of {self.width_mm:g} mm cannot be printed; 1 to 100000 can")
        if self.crop is not None:
            left, top, wide, tall = self.crop
            if (
                min(left, top) < 0
                or min(wide, tall) <= 0
                or left + wide > 1.0 + 1e-9
                or top + tall > 1.0 + 1e-9
            ):
                raise BadInput("a part of the page lies inside it and has a size")

    def upright(self, picture: Picture) -> Picture:
        """The picture turned and mirrored."""
        return picture.turned(self.quarters, self.mirrored) if self.quarters % 4 or self.mirrored else picture

    @property
    def part(self) -> tuple[float, float, float, float]:
        """What is printed, in shares of the page after it was turned and mirrored."""
        left, top, wide, tall = self.crop or (0.0, 0.0, 1.0, 1.0)
        for _ in range(self.quarters % 4):
            left, top, wide, tall = 1.0 - top - tall, left, tall, wide
        return (1.0 - left - wide if self.mirrored else left), top, wide, tall

    def on_page(self, place: Rectangle) -> Rectangle:
        """A rectangle in shares of what is printed, as shares of the page as it came."""
        left, top, wide, tall = self.part
        x, y, w, h = left + place[0] * wide, top + place[1] * tall, place[2] * wide, place[3] * tall
        if self.mirrored:
            x = 1.0 - x - w
        for _ in range(self.quarters % 4):
            x, y, w, h = y, 1.0 - x - w, h, w
        return x, y, w, h

    def from_page(self, x: float, y: float) -> tuple[float, float]:
        """A place in shares of the page as it came, as shares of what is printed: 0 left and top, 1 right and
        bottom, beyond that outside.
        """
        for _ in range(self.quarters % 4):
            x, y = 1.0 - y, x
        if self.mirrored:
            x = 1.0 - x
        left, top, wide, tall = self.part
        return (x - left) / wide, (y - top) / tall

    def frame(self, picture: Picture, resolution: float | None) -> Frame:
        """The page in dots; its own pixels where neither a resolution nor a width is asked for.

        `picture` is upright already.
        """
        columns, rows, dots = picture.width, picture.height, picture.ppi
        if resolution is not None or self.width_mm is not None:
            own = picture.size_mm[1] if self.quarters % 2 else picture.size_mm[0]
            larger = self.width_mm / own if self.width_mm else 1.0
            dots = resolution or picture.ppi / larger
            columns = max(1, round(picture.size_mm[0] * larger / 25.4 * dots))
            rows = max(1, round(picture.size_mm[1] * larger / 25.4 * dots))
        margin = round(self.margin_mm / 25.4 * dots)
        return Frame(columns, rows, pixels_of(self.part, columns, rows), dots, margin)


def pixels_of(part: tuple[float, float, float, float], width: int, height: int) -> tuple[int, int, int, int]:
    """Left, top, columns and rows of a part that is given in shares: neighbouring parts share no pixel."""
    left, top, wide, tall = part
    x0, y0 = min(round(left * width), width - 1), min(round(top * height), height - 1)
    x1, y1 = min(round((left + wide) * width), width), min(round((top + tall) * height), height)
    return x0, y0, max(1, x1 - x0), max(1, y1 - y0)


@dataclass(frozen=True)
class Order:
    """A file to be printed through a mode.

    Attributes
    ----------
    mode
        What it is printed with.
    shape
        What part, how large.
    settings
        How its colours are converted.
    source
        Profile for artwork that carries none; the shipped one of its kind where None.
    resolution
        Dots an inch; None for the artwork's own pixels.
    screen
        How planes are halftoned; None for amounts before halftoning.
    bits
        Of those amounts, 8 or 16.
    pictures
        How the colours of pictures on a page are converted where that is not how the rest is.
    spots
        Spot colours that are printed by their recipes; others as the file has them.
    """

    mode: ModeInks
    shape: Shape = Shape()
    settings: LinkSettings = LinkSettings()
    source: IccProfile | None = None
    resolution: float | None = None
    screen: ScreenSpec | None = None
    bits: int = 8
    pictures: LinkSettings | None = None
    spots: tuple[SpotInk, ...] = ()


def link_for(picture: Picture, order: Order) -> AnyLink:
    """The conversion of a picture for an order. Raises `BadInput` for a source of another kind."""
    plain = DeviceLink(_source_of(picture, order), order.mode, order.settings)
    if not (picture.spots or picture.tagged):
        return plain
    known = {spot.name: spot for spot in order.spots}
    pictures = (order.pictures or order.settings) if picture.tagged else None
    return LayeredLink(plain, tuple(known[name] for name in picture.spots), pictures)


def _source_of(picture: Picture, order: Order) -> ProfileColour:
    if picture.profile is not None or order.source is None:
        return source_of(picture)
    if order.source.channels != KINDS[picture.kind]:
        raise BadInput(
            f"the source profile is of {order.source.space}, the picture is {picture.kind.upper()}"
        )
    return ProfileColour(order.source)


def screen_of(halftone: str) -> ScreenSpec:
    """The screen that a print environment's halftone names."""
    return ScreenSpec(OF_ENVIRONMENT.get(halftone, "blue-noise"))


def print_to_file(
    art: str | Path,
    order: Order,
    output: str | Path,
    ticket: Mapping[str, Any] | None = None,
    report: Progress = quiet,
    resume: bool = False,
) -> Prepared:
    """Prepare a file and write it, whole or not at all.

    Raises `BadInput` for artwork that cannot be printed, naming it.
    """
    shape, opening = order.shape, (order.resolution, order.shape.width_mm, order.shape.quarters % 2 == 1)
    names = [spot.name for spot in order.spots]
    try:
        with open_artwork(art, shape.page, *opening, names, order.pictures is not None) as opened:
            picture = shape.upright(opened.picture())
            frame = shape.frame(picture, order.resolution)
            link = link_for(picture, order)
            judged = small(shape.upright(opened.picture()), shape.part)
            if order.screen is None:
                bare = replace(frame, margin=0)
                return prepare_contone(picture, bare, link, output, judged, order.bits, ticket, report)
            return prepare_planes(picture, frame, link, order.screen, output, judged, ticket, report, resume)
    except BadInput as error:
        raise (error if error.source else error.at(Path(art).name)) from None
