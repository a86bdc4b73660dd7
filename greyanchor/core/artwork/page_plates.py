"""Pages drawn as plates: process inks and every spot colour by itself, with overprints as asked."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from greyanchor.core.artwork import overprint, pages, pdf_rewriting
from greyanchor.core.artwork.pdf_inspection import colours_of_page, spots_of_page
from greyanchor.core.artwork.pictures import Picture, open_picture
from greyanchor.core.errors import BadInput

#: what overprints: what the file says, nothing, or black as well
AS_FILED, KNOCK_OUT, BLACK_OVER = "file", "knockout", "black"
OVERPRINTS = {
    AS_FILED: "as the file says",
    KNOCK_OUT: "nothing overprints",
    BLACK_OVER: "black overprints",
}
PROCESS = ("Cyan", "Magenta", "Yellow", "Black")
_SHARP_ENOUGH = 4800.0


@dataclass(frozen=True)
class PagePlates:
    """A page as it is drawn: C, M, Y and K, then spot colours, full is all of the ink; how fine; and which
    inks it has nothing of.
    """

    picture: Picture
    resolution: float
    absent: tuple[str, ...] = ()


def is_composite(path: Path, page: int) -> bool:
    """Whether a page has colours that are no amounts of ink: R G B or Lab."""
    return pages.is_pdf(path) and any(c.startswith(("R G B", "Lab")) for c in colours_of_page(path, page))


def draw_plates(
    path: Path,
    page: int,
    folder: Path,
    resolution: float,
    width_mm: float | None = None,
    spots: Sequence[str] | None = None,
    profile: bytes | None = None,
    overprints: str = AS_FILED,
) -> PagePlates:
    """Draw a page of a PDF into `folder` so that each ink is a channel of its own.

    Parameters
    ----------
    resolution, width_mm
        How fine when printed so wide; the page's own width where None.
    spots
        Spot colours that stay plates; others are drawn as what the file has in their place. All where None.
    profile
        ICC profile of the press in C M Y K: what is R G B is converted to it, relative colorimetric;
        C M Y K stays as it is.
    overprints
        One of `OVERPRINTS`.

    Raises `BadInput`, naming the file, for a page that cannot be drawn.
    """
    path = _as_pdf(path, folder)
    size = pages.page_size(path, page)
    dots = resolution * (width_mm / 25.4 * 72.0 / size[0] if width_mm else 1.0)
    if not 5.0 <= dots <= _SHARP_ENOUGH:
        raise BadInput(
            f"the page would have to be drawn at {dots:.0f} dpi; 5 to {_SHARP_ENOUGH:g} are possible: "
            "choose another size or resolution",
            path.name,
        )
    there = spots_of_page(path, page)
    own = tuple(n for n in there if spots is None or n in spots)
    source = folder / "art.pdf"
    pdf_rewriting.rewrite(path, source, {n: _file_name(i) for i, n in enumerate(own)})
    if overprints == BLACK_OVER:
        made = folder / "over.pdf"
        overprint.black_overprints(source if source.exists() else path, made)
        made.replace(source)
    options = [f"-r{dots:.4f}", f"-dFirstPage={page}", f"-dLastPage={page}", "-dUseCropBox"]
    options += ["-sDEVICE=tiffsep", "-sCompression=pack", "-sOutputFile=page.tif", "-dPrintSpotCMYK=false"]
    options += [f"-dOverprint=/{'disable' if overprints == KNOCK_OUT else 'enable'}"]
    if dots < 400.0:
        options += ["-dTextAlphaBits=4", "-dGraphicsAlphaBits=4"]
    if profile is not None:
        (folder / "press.icc").write_bytes(profile)
        options += ["-sOutputICCProfile=press.icc", "-sDefaultCMYKProfile=press.icc", "-dRenderIntent=1"]
    names = " ".join(f"({_file_name(i)})" for i in range(len(own)))
    options += [f"-dMaxSpots={len(own)}"]
    if own:
        options += ["-c", f"<< /SeparationColorNames [{names}] >> setpagedevice", "-f"]
    pages.run(path, folder, options)
    (folder / "page.tif").unlink(missing_ok=True)
    files = [folder / f"page({name}).tif" for name in (*PROCESS, *(_file_name(i) for i in range(len(own))))]
    if not all(f.exists() for f in files):
        raise BadInput(f"it has no page {page}", path.name)
    process = [f for f in files[:4] if _has_ink(f)]
    first = files[:4] if process else []
    spot_files = [(n, f) for n, f in zip(own, files[4:]) if _has_ink(f)]
    planes = [open_picture(f).image.invert() for f in (*first, *(f for _, f in spot_files))]
    if not planes:
        raise BadInput("the page is empty: there is nothing to make plates of", path.name)
    image = planes[0].bandjoin(planes[1:]) if len(planes) > 1 else planes[0]
    kind = "cmyk" if first else "spots"
    printed = tuple(n for n, _ in spot_files)
    absent = (*(() if first else "CMYK"), *(n for n in own if n not in printed))
    return PagePlates(Picture(image, kind, None, dots, True, (), printed), dots, absent)


def _has_ink(file: Path) -> bool:
    """Whether a plane that was drawn has any ink: all of it is looked at."""
    return bool(open_picture(file).image.min() < 255)


def _as_pdf(path: Path, folder: Path) -> Path:
    """A page file as PDF, in which spot colours have their names."""
    if pages.is_pdf(path):
        return path
    within = folder / "from-postscript"
    within.mkdir(exist_ok=True)
    pages.run(path, within, ["-sDEVICE=pdfwrite", "-sOutputFile=page.pdf"])
    made = folder / f"{path.stem}.pdf"
    (within / "page.pdf").replace(made)
    return made


def _file_name(place: int) -> str:
    return f"Own{place + 1}"


def safe_name(ink: str) -> str:
    """An ink's name as the name of a file: letters of any alphabet, digits, spaces, points and hyphens.

    >>> safe_name("Harbour/Red 100%")
    'Harbour-Red 100-'
    """
    return re.sub(r"[^\w .+-]", "-", ink).strip(" .") or "plate"
