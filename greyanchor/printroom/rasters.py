"""Pages as tiled pyramids, which pictures on screen are cut from."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from greyanchor.core.artwork.pages import is_page_file, page_size, render_page
from greyanchor.core.artwork.pictures import Picture, is_picture, open_picture
from greyanchor.core.errors import BadInput
from greyanchor.printroom import files
from greyanchor.printroom.models import Artwork

TILE = 256
#: longest side of a pyramid, pixels
_LONGEST = 12_000
_LONGEST_PAGE = 4_800
_THUMB = 440


def raster_name(artwork: Artwork, page: int) -> str:
    """Where the pyramid of a page lies."""
    return f"rasters/{artwork.sha256[:2]}/{artwork.sha256}-{page}.tif"


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
        _save(render_page(source, page, Path(folder), max(dots, 5.0), seconds=120).picture(), name)
    return name


def _save(picture: Picture, name: str) -> None:
    import pyvips

    image = picture.image
    share = _LONGEST / max(picture.width, picture.height)
    if share < 1.0:
        image = image.resize(share)
    simple = picture.bits == 8 and picture.kind != "cmyk"
    packing: dict[str, Any] = (
        {"compression": "jpeg", "Q": 93} if simple else {"compression": "deflate", "level": 1}
    )
    ppi = picture.ppi * min(share, 1.0) / 25.4
    try:
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
    raster = files.local(raster_name(artwork, 1))
    given = raster if raster.exists() and is_page_file(source) else source
    if not is_picture(given):
        return ""
    try:
        small = pyvips.Image.thumbnail(
            str(given), _THUMB, size="down", export_profile="srgb", intent="perceptual", fail_on="truncated"
        )
        if small.hasalpha():
            small = small.flatten(background=255)
        with files.whole(name) as partial:
            small.colourspace("srgb").cast("uchar").jpegsave(str(partial), Q=88, strip=True)
    except pyvips.Error:
        return ""  # what is wrong with it is said by its examination
    return name


def level(artwork: Artwork, page: int, number: int) -> Picture:
    """A level of the pyramid of a page, 0 the finest; the coarsest where there are fewer."""
    name = make_raster(artwork, page)
    path = files.local(name)
    try:
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
