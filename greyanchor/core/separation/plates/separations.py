"""Artwork as amounts of ink, plate by plate: kept where it is separated already, or separated for a press."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.artwork.opening import open_artwork
from greyanchor.core.artwork.page_plates import AS_FILED, draw_plates, is_composite
from greyanchor.core.artwork.pages import is_page_file
from greyanchor.core.artwork.pdf_inspection import spots_of_page
from greyanchor.core.artwork.pictures import Picture, open_inks, open_picture
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.separation.conversion import Conversion
from greyanchor.core.separation.default_sources import source_of
from greyanchor.core.separation.from_pack import mode_inks
from greyanchor.core.separation.link import DeviceLink, LinkSettings
from greyanchor.core.separation.prepare import Frame, planes_reader
from greyanchor.core.separation.printing import Shape

Pixels = np.ndarray[Any, Any]
_NO_PROFILE = "name the profile of the press that it is separated for"


@dataclass(frozen=True)
class Art:
    """What is separated, and how.

    Attributes
    ----------
    path, shape
        The file; its page, size, part and turn.
    profile
        ICC profile of the press, as bytes, for what is not separated already.
    settings
        How colours are converted then.
    spots
        Spot colours that stay plates; others fold into the process inks. All stay where None.
    overprints
        One of `artwork.page_plates.OVERPRINTS`.
    """

    path: Path
    shape: Shape = Shape()
    profile: bytes | None = None
    settings: LinkSettings = LinkSettings("relative")
    spots: tuple[str, ...] | None = None
    overprints: str = AS_FILED


@dataclass(frozen=True)
class Separations:
    """Plates before they are screened.

    Attributes
    ----------
    inks
        Names, process inks first.
    frame
        Their size.
    planes
        Gives amounts (inks, rows, columns), 16 bits, of rows ``first`` to ``last``, from the top down.
    kept
        Whether empty plates are plates all the same: a picture says which inks it has.
    notes
        What was done that its maker may not expect, in words.
    absent
        Inks that the art could have and has nothing of.
    """

    inks: tuple[str, ...]
    frame: Frame
    planes: Callable[[int, int], Pixels]
    kept: bool
    notes: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()


class AsIs:
    """Channels that are amounts of ink already; grey is light."""

    def __init__(self, kind: str, inks: tuple[str, ...]) -> None:
        self.inks, self._is_grey = inks, kind == "grey"

    def convert(self, pixels: Pixels) -> Pixels:
        """Amounts (..., inks), 16 bits, of pixels (..., channels) of 8 or 16 bits."""
        amounts = pixels if pixels.dtype == np.uint16 else pixels.astype(np.uint16) * np.uint16(257)
        return np.uint16(65535) - amounts if self._is_grey else amounts


class ForPress:
    """Colours through the profile of a press; spot colours beside them as they are."""

    def __init__(self, link: DeviceLink, spots: tuple[str, ...]) -> None:
        self._colours, self._count = Conversion(link), link.source_channels
        self.inks = (*self._colours.inks, *spots)

    def convert(self, pixels: Pixels) -> Pixels:
        """Amounts (..., inks), 16 bits, of pixels (..., channels) of 8 or 16 bits."""
        made = self._colours.convert(np.ascontiguousarray(pixels[..., : self._count]))
        if pixels.shape[-1] == self._count:
            return made
        own = AsIs("spots", ()).convert(pixels[..., self._count :])
        return np.concatenate([made, own], axis=-1)


@contextmanager
def open_separations(art: Art, resolution: float) -> Iterator[Separations]:
    """The plates of a page, as long as the context lasts. Raises `BadInput`, naming the file."""
    try:
        if not art.path.exists():
            raise BadInput("cannot be read: No such file or directory")
        with tempfile.TemporaryDirectory(prefix="greyanchor-plates-") as folder:
            opened = _from_page if is_page_file(art.path) else _from_picture
            with opened(art, resolution, Path(folder)) as found:
                yield found
    except BadInput as error:
        raise (error if error.source else error.at(art.path.name)) from None


@contextmanager
def _from_picture(art: Art, resolution: float, folder: Path) -> Iterator[Separations]:
    path, page, turned = art.path, art.shape.page, art.shape.quarters % 2 == 1
    picture = open_inks(path, page) or open_picture(path, page, turned)
    if picture.kind == "rgb":
        yield _for_press(picture, art, resolution)
    else:
        yield _as_it_is(picture, art, resolution, kept=True)


@contextmanager
def _from_page(art: Art, resolution: float, folder: Path) -> Iterator[Separations]:
    shape, profile = art.shape, art.profile
    composite = is_composite(art.path, shape.page)
    if composite and profile is None:
        raise BadInput(f"it has colours that are no amounts of ink: {_NO_PROFILE}")
    if composite and profile is not None and icc.loads(profile).space != "CMYK":
        names = spots_of_page(art.path, shape.page)
        own = [n for n in names if art.spots is None or n in art.spots]
        with open_artwork(art.path, shape.page, resolution, shape.width_mm, False, own) as opened:
            yield _for_press(opened.picture(), art, resolution)
        return
    for_press = profile if composite else None
    drawn = draw_plates(
        art.path, shape.page, folder, resolution, shape.width_mm, art.spots, for_press, art.overprints
    )
    yield replace(_as_it_is(drawn.picture, art, resolution, kept=False), absent=drawn.absent)


def _as_it_is(picture: Picture, art: Art, resolution: float, kept: bool) -> Separations:
    first = {"grey": ("K",), "cmyk": tuple("CMYK"), "spots": ()}[picture.kind]
    conversion = AsIs(picture.kind, (*first, *picture.spots))
    left_out = () if art.spots is None else tuple(s for s in picture.spots if s not in art.spots)
    if left_out and kept:
        raise BadInput(f"{', '.join(left_out)} cannot fold into others: a picture says nothing of its colour")
    return _separations(picture, art, resolution, conversion, kept)


def _for_press(picture: Picture, art: Art, resolution: float) -> Separations:
    if art.profile is None:
        raise BadInput(f"it is {picture.kind.upper()}: {_NO_PROFILE}")
    profile = icc.loads(art.profile, "the profile of the press")
    if profile.space in ("RGB", "GRAY"):
        raise BadInput(f"the profile is of {profile.space}, and plates are amounts of ink")
    mode = mode_inks(profile, None, [], {}, None)
    link = DeviceLink(source_of(picture), mode, art.settings)
    return _separations(picture, art, resolution, ForPress(link, picture.spots), kept=False)


def _separations(
    picture: Picture, art: Art, resolution: float, conversion: AsIs | ForPress, kept: bool
) -> Separations:
    upright = art.shape.upright(picture)
    frame = art.shape.frame(upright, resolution)
    planes = planes_reader(upright, frame, conversion, 0)
    return Separations(conversion.inks, frame, planes, kept, picture.notes)
