"""Pages as tiled pyramids, which pictures on screen are cut from."""

from __future__ import annotations

import hashlib
import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.artwork.pages import is_page_file, page_size, render_page
from greyanchor.core.artwork.pictures import Picture, is_picture, layers_text, open_layers, open_picture
from greyanchor.core.errors import BadInput
from greyanchor.core.separation import views
from greyanchor.core.separation.default_sources import source_of
from greyanchor.printroom import files
from greyanchor.printroom.models import Artwork
from greyanchor.printroom.recipes import spots_of

TILE = 256
#: longest side of a pyramid, pixels
_LONGEST = 12_000
_LONGEST_PAGE = 4_800
_THUMB = 440


def raster_name(artwork: Artwork, page: int) -> str:
    """Where the pyramid of a page lies. Spot colours that the library knows are channels of their own in the
    pyramid of a PDF, so that it has another name once the library knows others.
    """
    mark = ""
    if artwork.kind == "PDF":
        known = sorted(s.name for s in spots_of(artwork, page) if s.colour is not None)
        mark = f"-{hashlib.sha256(json.dumps(known).encode()).hexdigest()[:8]}"
    return f"rasters/{artwork.sha256[:2]}/{artwork.sha256}-{page}{mark}.tif"


def thumbnail_name(artwork: Artwork) -> str:
    """Where the small picture of an artwork lies."""
    return f"thumbnails/{artwork.sha256[:2]}/{artwork.sha256}.jpg"


def make_raster(artwork: Artwork, page: int = 1) -> str:
    """Make the pyramid of a page, where it is not there. Raises `BadInput` where it cannot be drawn."""
    name = raster_name(artwork, page)
    if files.local(name).exists():
        return name
    source = files.local(artwork.file)
    if not is_page_file(source):
        _save(open_picture(source, page), name)
        return name
    width, height = page_size(source, page)
    dots = min(300.0, _LONGEST_PAGE / max(width, height) * 72.0)
    with tempfile.TemporaryDirectory(prefix="greyanchor-page-") as folder:
        names = [s.name for s in spots_of(artwork, page) if s.colour is not None]
        drawn = render_page(
            source, page, Path(folder), max(dots, 5.0), seconds=60, spots=names, tagged=artwork.kind == "PDF"
        )
        _save(drawn.picture(), name)
    return name


def _save(picture: Picture, name: str) -> None:
    import pyvips

    image = picture.image
    share = _LONGEST / max(picture.width, picture.height)
    if share < 1.0:
        image = image.resize(share)
    layered = bool(picture.spots) or picture.tagged
    simple = picture.bits == 8 and picture.kind != "cmyk" and not layered
    packing: dict[str, Any] = (
        {"compression": "jpeg", "Q": 93} if simple else {"compression": "deflate", "level": 1}
    )
    ppi = picture.ppi * min(share, 1.0) / 25.4
    try:
        if layered:
            # what follows the colours is no transparency: smaller levels must not be weighed by it
            image = image.copy(interpretation="multiband")
            image.set_type(pyvips.GValue.gstr_type, "image-description", layers_text(picture))
        with files.whole(name) as partial:
            image.copy(xres=ppi, yres=ppi).tiffsave(
                str(partial),
                tile=True,
                pyramid=True,
                tile_width=TILE,
                tile_height=TILE,
                bigtiff=True,
                **packing,
            )
    except pyvips.Error as error:
        raise BadInput(
            f"the picture is damaged or cut off ({str(error).strip().splitlines()[-1][:120]})"
        ) from error


def make_thumbnail(artwork: Artwork) -> str:
    """A small picture of the first page, for the wall; of a picture file without decoding all of it."""
    import pyvips

    name, source = thumbnail_name(artwork), files.local(artwork.file)
    if is_page_file(source):
        return _thumbnail_of_page(artwork, name)
    if not is_picture(source):
        return ""
    try:
        small = pyvips.Image.thumbnail(
            str(source), _THUMB, size="down", export_profile="srgb", intent="perceptual", fail_on="truncated"
        )
        if small.hasalpha():
            small = small.flatten(background=255)
        with files.whole(name) as partial:
            small.colourspace("srgb").cast("uchar").jpegsave(str(partial), Q=88, strip=True)
    except pyvips.Error:
        return ""  # what is wrong with it is said by its examination
    return name


def _thumbnail_of_page(artwork: Artwork, name: str) -> str:
    """From the page's pyramid; drawn coarsely, spot colours as the file has them, before there is one."""
    if artwork.kind and files.local(raster_name(artwork, 1)).exists():
        return _small_picture(level(artwork, 1, 0), artwork, name)
    source = files.local(artwork.file)
    try:
        dots = max(5.0, _THUMB / max(page_size(source)) * 72.0)
        with tempfile.TemporaryDirectory(prefix="greyanchor-page-") as folder:
            return _small_picture(
                render_page(source, 1, Path(folder), dots, seconds=20).picture(), artwork, name
            )
    except BadInput:
        return ""  # what is wrong with it is said by its examination


def _small_picture(finest: Picture, artwork: Artwork, name: str) -> str:
    import pyvips

    share = _THUMB / max(finest.width, finest.height)
    small = finest.scaled(max(1, round(finest.width * share)), max(1, round(finest.height * share)))
    seen = as_it_comes(small, artwork, 1)
    with files.whole(name) as partial:
        pyvips.Image.new_from_array(seen).copy(interpretation="srgb").jpegsave(str(partial), Q=88, strip=True)
    return name


def as_it_comes(picture: Picture, artwork: Artwork, page: int) -> np.ndarray:
    """sRGB bytes (rows, columns, 3) of a picture of a page by its own profile, on white, through no mode;
    its spot colours as the library has them.
    """
    known = {s.name: s.colour for s in spots_of(artwork, page) if s.colour is not None}
    pixels = picture.pixels()
    values = pixels.reshape(-1, pixels.shape[2]) / float(np.iinfo(pixels.dtype).max)
    return views.of_source(source_of(picture), values, [known[n] for n in picture.spots]).reshape(
        *pixels.shape[:2], 3
    )


def level(artwork: Artwork, page: int, number: int) -> Picture:
    """A level of the pyramid of a page, 0 the finest; the coarsest where there are fewer."""
    name = make_raster(artwork, page)
    path = files.local(name)
    try:
        if artwork.kind == "PDF":
            return open_layers(path, number + 1)
        return open_picture(path, number + 1, random=True)
    except BadInput:
        if number == 0:
            raise
        return level(artwork, page, number - 1)


def levels(width: int, height: int) -> int:
    """How many levels a pyramid of a picture has."""
    count = 1
    while max(width, height) > TILE:
        width, height, count = -(-width // 2), -(-height // 2), count + 1
    return count
