"""Pictures as they come, read in bands: TIFF, JPEG, PNG, through libvips.

Whatever the file, what comes out is grey, R G B or C M Y K of 8 or 16 bits, upright, without transparency,
with the profile that it carries.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc

#: pixels of a file that is opened: a print of 1.5 x 20 m at 300 ppi has 4 thousand million
MOST_PIXELS = 8_000_000_000
MOST_SIDE = 1_000_000
#: what a picture is taken to have that does not say its resolution
USUAL_PPI = 300.0
#: bytes of a band that is held in memory
_BAND_BYTES = 24 * 2**20
KINDS = {"grey": 1, "rgb": 3, "cmyk": 4, "spots": 0}
_SPACES = {"grey": "GRAY", "rgb": "RGB", "cmyk": "CMYK"}
#: interpretations of libvips by what they hold
_GREY, _RGB, _CMYK = ("b-w", "grey16"), ("srgb", "rgb", "rgb16"), ("cmyk",)


@dataclass(frozen=True)
class Picture:
    """A picture that is read as it is asked for.

    Attributes
    ----------
    image
        Of libvips.
    kind
        ``grey``, ``rgb`` or ``cmyk``; ``spots`` where all its channels are inks of their own.
    profile
        The profile that the file carries, where it fits; else None.
    ppi
        Resolution of the file; `USUAL_PPI` where `ppi_known` is false.
    notes
        What was done to it that its maker may not expect, in words.
    spots
        Spot colours that are channels of their own, after those of its kind; full is all of the colour.
    tagged
        Whether the last channel says what is part of a picture (full) and what is text or drawing (0).
    """

    image: Any
    kind: str
    profile: bytes | None
    ppi: float
    ppi_known: bool
    notes: tuple[str, ...] = ()
    spots: tuple[str, ...] = ()
    tagged: bool = False

    @property
    def width(self) -> int:
        """Columns."""
        return int(self.image.width)

    @property
    def height(self) -> int:
        """Rows."""
        return int(self.image.height)

    @property
    def channels(self) -> int:
        """Of its kind, its spot colours and its tag together."""
        return KINDS[self.kind] + len(self.spots) + self.tagged

    @property
    def bits(self) -> int:
        """8 or 16."""
        return 16 if self.image.format == "ushort" else 8

    @property
    def size_mm(self) -> tuple[float, float]:
        """Width and height as the file says them."""
        return self.width / self.ppi * 25.4, self.height / self.ppi * 25.4

    def scaled(self, columns: int, rows: int) -> Picture:
        """The picture with another number of pixels: cubic when it grows, averaged well when it shrinks.

        Raises `BadInput` for more pixels than are printed at once.
        """
        if columns < 1 or rows < 1 or max(columns, rows) > MOST_SIDE:
            raise BadInput(f"{columns} x {rows} pixels are asked for; 1 to {MOST_SIDE} each way are possible")
        if (columns, rows) == (self.width, self.height):
            return self
        across, down = columns / self.width, rows / self.height
        kernel = "cubic" if min(across, down) >= 1.0 else "lanczos3"
        made = self.image.resize(across, vscale=down, kernel=kernel)
        if (made.width, made.height) != (columns, rows):
            made = made.gravity("north-west", columns, rows, extend="copy")
        return replace(self, image=made, ppi=self.ppi * across)

    def cropped(self, left: int, top: int, columns: int, rows: int) -> Picture:
        """A rectangle of it. Raises `BadInput` where it reaches outside."""
        if left < 0 or top < 0 or columns < 1 or rows < 1:
            raise BadInput("a rectangle begins inside the picture and has a size")
        if left + columns > self.width or top + rows > self.height:
            raise BadInput(
                f"the rectangle reaches to {left + columns} x {top + rows}, the picture is {self.width} x "
                f"{self.height} pixels"
            )
        return replace(self, image=self.image.crop(left, top, columns, rows))

    def turned(self, quarters: int, mirrored: bool = False) -> Picture:
        """Turned clockwise by quarters, then mirrored left to right."""
        names = (None, "rot90", "rot180", "rot270")
        name = names[quarters % 4]
        made = getattr(self.image, name)() if name else self.image
        return replace(self, image=made.fliphor() if mirrored else made)

    def reader(self) -> Callable[[int, int], np.ndarray[Any, Any]]:
        """Gives pixels (rows, columns, channels) of rows ``first`` to ``last``, from the top down."""
        pyvips = _vips()
        channels, kind = self.channels, np.dtype(np.uint16 if self.bits == 16 else np.uint8)
        region = pyvips.Region.new(self.image)

        def read(first: int, last: int) -> np.ndarray[Any, Any]:
            try:
                data = region.fetch(0, first, self.width, last - first)
            except pyvips.Error as error:
                raise _damaged(error) from error
            return np.frombuffer(data, dtype=kind).reshape(last - first, self.width, channels)

        return read

    def bands(self, rows: int | None = None) -> Iterator[tuple[int, np.ndarray[Any, Any]]]:
        """First row and pixels (rows, columns, channels) of bands from the top, without gaps."""
        tall, read = rows or self.band_rows, self.reader()
        for top in range(0, self.height, tall):
            yield top, read(top, min(top + tall, self.height))

    @property
    def band_rows(self) -> int:
        """Rows of a band that fits into memory beside what is made of it."""
        row = self.width * self.channels * self.bits // 8
        return max(8, min(self.height, _BAND_BYTES // max(row, 1)) // 8 * 8)

    def pixels(self) -> np.ndarray[Any, Any]:
        """All of a small picture (rows, columns, channels)."""
        parts = [band for _, band in self.bands(self.height)]
        return np.concatenate(parts)


@lru_cache(maxsize=1)
def _vips() -> Any:
    """libvips, which must not remember what a file held: another may have taken its name since."""
    import pyvips

    pyvips.cache_set_max(0)
    # what is wrong with a file is raised, and said once
    logging.getLogger("pyvips").setLevel(logging.CRITICAL)
    return pyvips


def open_picture(path: str | Path, page: int = 1, random: bool = False) -> Picture:
    """Open a picture file; its pixels are decoded when bands are read.

    `page` counts from 1. `random` is for rectangles anywhere in it; else it is read from the top.

    Raises `BadInput`, with the name of the file, for what is no picture, is damaged, is too large, or has
    channels whose meaning is not known.
    """
    pyvips = _vips()
    path = Path(path)
    loader = _loader(path)
    options: dict[str, Any] = {"access": "random" if random else "sequential", "fail_on": "truncated"}
    if loader.startswith("tiffload"):
        options["page"] = page - 1
    elif page != 1:
        raise BadInput(f"there is one page in it, not {page}", path.name)
    try:
        image = pyvips.Image.new_from_file(str(path), **options)
        pages = int(image.get("n-pages")) if image.get_typeof("n-pages") else 1
        if page > pages:
            raise BadInput(f"it has {pages} page{'s' * (pages != 1)}, not {page}", path.name)
        _check_size(image, path.name)
        turned = image.get_typeof("orientation") and int(image.get("orientation")) not in (0, 1)
        if turned and not random:
            image = pyvips.Image.new_from_file(str(path), **{**options, "access": "random"})
        return _plain(image.autorot() if turned else image, bool(turned), path.name)
    except pyvips.Error as error:
        raise _damaged(error).at(path.name) from error


def open_inks(path: str | Path, page: int = 1) -> Picture | None:
    """A TIFF that says of its channels that they are inks, and names them where they are not C, M, Y and K;
    None for another picture.

    Raises `BadInput`, naming the file, where it has inks and does not say which.
    """
    import tifffile

    path = Path(path)
    with open(path, "rb") as file:
        if file.read(2) not in (b"II", b"MM"):
            return None
    try:
        with tifffile.TiffFile(path) as tiff:
            if page > len(tiff.pages):
                return None
            tags = tiff.pages[page - 1].tags
            if int(tags.valueof(262, -1)) != 5:
                return None
            count, text = int(tags.valueof(277, 1)), tags.valueof(333, "")
    except (tifffile.TiffFileError, ValueError, OSError) as error:
        raise _damaged(error).at(path.name) from error
    said = text if isinstance(text, str) else str(text)
    names = tuple(n.strip() for n in said.split("\0") if n.strip())
    if count <= 5 and len(names) != count:
        return None  # C M Y K, perhaps with transparency
    if len(names) != count or len(set(names)) != count:
        raise BadInput(
            f"it has {count} inks and names {len(names)} of them: save it with the name of each", path.name
        )
    pyvips = _vips()
    try:
        image = pyvips.Image.new_from_file(str(path), page=page - 1, access="sequential")
        _check_size(image, path.name)
    except pyvips.Error as error:
        raise _damaged(error).at(path.name) from error
    if image.format not in ("uchar", "ushort") or int(image.bands) != count:
        raise BadInput(f"its inks are of the kind {image.format}; 8 and 16 bits are taken", path.name)
    usual = ({"C", "Cyan"}, {"M", "Magenta"}, {"Y", "Yellow"}, {"K", "Black"})
    has_process = count >= 4 and all(n in known for n, known in zip(names, usual))
    ppi = float(image.xres) * 25.4
    known = 10.0 <= ppi <= 20000.0 and abs(ppi - 25.4) > 0.01
    kind, spots = ("cmyk", names[4:]) if has_process else ("spots", names)
    return Picture(image, kind, None, ppi if known else USUAL_PPI, known, (), spots)


def layers_text(picture: Picture) -> str:
    """What `open_layers` must know of a picture that was written to a file, as text to keep in it."""
    return json.dumps({"kind": picture.kind, "spots": list(picture.spots), "tagged": picture.tagged})


def open_layers(path: Path, page: int = 1) -> Picture:
    """Open a TIFF of our own with spot colours or a tag, whose description is its `layers_text`."""
    pyvips = _vips()
    try:
        image = pyvips.Image.new_from_file(str(path), page=page - 1, access="random")
        said = json.loads(image.get("image-description"))
        ppi, spots = float(image.xres) * 25.4, tuple(said["spots"])
        made = Picture(image, said["kind"], None, ppi, True, (), spots, said["tagged"])
    except (pyvips.Error, ValueError, KeyError) as error:
        raise _damaged(error).at(path.name) from error
    if made.channels != int(image.bands):
        raise BadInput(f"it has {image.bands} channels, its description says {made.channels}", path.name)
    return made


def is_picture(path: Path) -> bool:
    """Whether a file is a picture that is taken, by what is in it."""
    try:
        return bool(_loader(path))
    except BadInput:
        return False


def _loader(path: Path) -> str:
    """The reader of libvips for a file, by what is in it; only those that this program takes."""
    pyvips = _vips()
    if not path.exists():
        raise BadInput("cannot be read: No such file or directory", path.name)
    if path.stat().st_size == 0:
        raise BadInput("the file is empty", path.name)
    name = pyvips.vips_lib.vips_foreign_find_load(str(path).encode())
    found = "" if name == pyvips.ffi.NULL else pyvips.ffi.string(name).decode()
    known = {
        "VipsForeignLoadJpegFile": "jpegload",
        "VipsForeignLoadPngFile": "pngload",
        "VipsForeignLoadTiffFile": "tiffload",
    }
    if found not in known:
        raise BadInput("this is no picture that can be printed: TIFF, JPEG and PNG are", path.name)
    return known[found]


def _check_size(image: Any, name: str) -> None:
    width, height = int(image.width), int(image.height)
    if width < 1 or height < 1:
        raise BadInput("it has no pixels", name)
    if max(width, height) > MOST_SIDE or width * height > MOST_PIXELS:
        raise BadInput(
            f"it has {width} x {height} pixels, which is more than can be printed ({MOST_PIXELS // 10**6} "
            "million): reduce its resolution",
            name,
        )


def _plain(image: Any, turned: bool, name: str) -> Picture:
    """Grey, R G B or C M Y K of 8 or 16 bits, without transparency."""
    notes = ["turned upright as its camera says"] if turned else []
    profile = bytes(image.get("icc-profile-data")) if image.get_typeof("icc-profile-data") else None
    meaning = image.interpretation
    if meaning in ("lab", "labs", "scrgb", "hsv", "xyz", "lch"):
        image, profile = image.colourspace("rgb16"), None
        notes.append(f"its {meaning} colours were turned into 16-bit sRGB; what lies outside was cut off")
        meaning = "rgb16"
    if image.format not in ("uchar", "ushort"):
        raise BadInput(
            f"its samples are of the kind {image.format}; 8 and 16 bits without sign are taken", name
        )
    bands = int(image.bands)
    if meaning in _GREY and bands <= 2:
        kind = "grey"
    elif meaning in _RGB and bands in (3, 4):
        kind = "rgb"
    elif meaning in _CMYK and bands in (4, 5):
        kind = "cmyk"
    elif bands <= 2:
        kind = "grey"
    else:
        raise BadInput(
            f"it has {bands} channels ({meaning}) whose meaning it does not say: send grey, R G B or C M Y K",
            name,
        )
    if bands > KINDS[kind]:
        full = 65535 if image.format == "ushort" else 255
        paper = [0] * 4 if kind == "cmyk" else [full] * KINDS[kind]
        image = image.flatten(background=paper, max_alpha=full)
        notes.append("transparency was laid on white")
    profile, note = _fitting(profile, kind)
    notes += [note] if note else []
    ppi = float(image.xres) * 25.4
    known = image.get_typeof("resolution-unit") != 0 or abs(ppi - 25.4) > 0.01
    if not known or not 10.0 <= ppi <= 20000.0:
        known, ppi = False, USUAL_PPI
    return Picture(image, kind, profile, ppi, known, tuple(notes))


def _fitting(profile: bytes | None, kind: str) -> tuple[bytes | None, str]:
    """The profile of a picture where it is one of its kind, and a note where it is not."""
    if profile is None:
        return None, ""
    try:
        found = icc.loads(profile)
    except BadInput as error:
        return None, f"its profile was left out: {error.reason}"
    if found.space != _SPACES[kind]:
        return None, f"its profile was left out: it is of {found.space}, the picture is {kind.upper()}"
    return profile, ""


def _damaged(error: Exception) -> BadInput:
    last = str(error).strip().splitlines()
    return BadInput(f"the picture is damaged or cut off ({last[-1].strip() if last else 'unreadable'})")
