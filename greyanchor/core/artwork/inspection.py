"""Artwork examined before anybody prints it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from greyanchor.core.artwork.findings import ArtworkFacts, Finding, PageFacts, ranked
from greyanchor.core.artwork.pages import ghostscript, is_page_file, page_size
from greyanchor.core.artwork.pictures import Picture, open_picture
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc

Progress = Callable[[float, str], None]
#: ink in all (fraction) past which artwork is said to be heavy, whatever the mode
HEAVY = 3.2
#: below this resolution at its own size a picture looks soft from an arm's length
SOFT_PPI = 120.0
MOST_PAGES = 500
_SAMPLE = 250_000
_SPACE_WORDS = {"grey": "grey", "rgb": "R G B", "cmyk": "C M Y K"}
_DEFAULTS = {"grey": "grey with the tone curve of sRGB", "rgb": "sRGB", "cmyk": "Generic coated"}


def quiet(share: float, text: str) -> None:
    """Progress that nobody watches."""


def examine(path: Path, report: Progress = quiet) -> ArtworkFacts:
    """What a file holds, and what would go wrong with it.

    Raises `BadInput`, naming the file, for what is no artwork or cannot be read.
    """
    if not is_page_file(path):
        return _examine_picture(path, report)
    with open(path, "rb") as file:
        is_pdf = b"%PDF-" in file.read(1024)
    if is_pdf:
        from greyanchor.core.artwork.pdf_inspection import examine_pdf

        found = examine_pdf(path, report)
    else:
        width, height = page_size(path)
        page = PageFacts(width / 72.0 * 25.4, height / 72.0 * 25.4, ("PostScript",))
        found = ArtworkFacts("PostScript", (page,), ())
    if ghostscript() is None:
        missing = Finding(
            "stop",
            "its pages cannot be drawn here: Ghostscript is not installed",
            advice="install it (Debian: apt install ghostscript), then examine the file again",
        )
        found = ArtworkFacts(found.kind, found.pages, (missing, *found.findings))
    return found


def _examine_picture(path: Path, report: Progress) -> ArtworkFacts:
    picture = open_picture(path)
    pages = _pages_of(path)
    report(0.2, "looking at its pixels")
    findings = [Finding("know", note) for note in picture.notes]
    findings += _colour_findings(picture)
    findings += _resolution_findings(picture)
    share = min(1.0, (_SAMPLE / (picture.width * picture.height)) ** 0.5)
    small = picture.scaled(
        max(1, round(picture.width * share)), max(1, round(picture.height * share))
    ).pixels()
    if picture.kind == "cmyk":
        findings += _ink_findings(small)
    findings += edge_findings(small, picture.kind)
    width, height = picture.size_mm
    whole = (0.0, 0.0, 1.0, 1.0, picture.ppi)
    page = PageFacts(
        width, height, (f"{_SPACE_WORDS[picture.kind]}, {picture.bits} bits",), pictures=(whole,)
    )
    report(1.0, "done")
    return ArtworkFacts("picture", (page,) * pages, tuple(ranked(findings)))


#: a border this inked, share of full, is not bare
_TOUCHED = 0.03
_SIDES = ("the left", "the right", "the top", "the bottom")


def edge_findings(pixels: np.ndarray, kind: str) -> list[Finding]:
    """Whether art touches the edge of its page, out of a small picture (rows, columns, channels) of it.

    `kind` is ``cmyk``, or ``rgb`` or ``grey``, where full is bare paper.
    """
    full = float(np.iinfo(pixels.dtype).max)
    if kind == "cmyk":
        ink = pixels.max(axis=2) / full
    else:
        ink = 1.0 - pixels[:, :, : 3 if kind == "rgb" else 1].min(axis=2) / full
    borders = (ink[:, 0], ink[:, -1], ink[0], ink[-1])
    touched = [side for side, line in zip(_SIDES, borders) if float((line > _TOUCHED).mean()) > 0.02]
    if not touched:
        return []
    where = "all round" if len(touched) == 4 else f"on {', '.join(touched)}"
    text = f"its art touches its edge {where}"
    return [Finding("know", text, advice="give it bleed where it is cut there, or a margin on the job")]


def _pages_of(path: Path) -> int:
    """Pages of a picture file; more than one in a TIFF alone."""
    import pyvips

    image = pyvips.Image.new_from_file(str(path), access="sequential")
    pages = int(image.get("n-pages")) if image.get_typeof("n-pages") else 1
    if pages > MOST_PAGES:
        raise BadInput(f"it has {pages} pages; {MOST_PAGES} are taken", path.name)
    return pages


def _colour_findings(picture: Picture) -> list[Finding]:
    if picture.profile is not None:
        found = icc.loads(picture.profile)
        return [
            Finding("know", f"its colours are those of {found.description or 'a profile without a name'}")
        ]
    return [
        Finding(
            "know",
            f"it carries no profile: its {_SPACE_WORDS[picture.kind]} is taken for {_DEFAULTS[picture.kind]}",
            advice="choose another on the job where that is wrong",
        )
    ]


def _resolution_findings(picture: Picture) -> list[Finding]:
    if not picture.ppi_known:
        return [
            Finding(
                "know",
                f"it does not say its resolution: {picture.ppi:.0f} ppi are taken, which makes it "
                f"{picture.size_mm[0]:.0f} x {picture.size_mm[1]:.0f} mm",
                advice="give the job its size",
            )
        ]
    if picture.ppi < SOFT_PPI:
        return [
            Finding(
                "warn",
                f"it has {picture.ppi:.0f} ppi at its own size, which looks soft from an arm's length",
                advice=f"print it {100.0 * picture.ppi / SOFT_PPI:.0f} % large at most, or get a finer one",
            )
        ]
    return []


def _ink_findings(pixels: np.ndarray) -> list[Finding]:
    sums = pixels.astype(float).sum(axis=2) / np.iinfo(pixels.dtype).max
    if float(sums.max()) <= HEAVY:
        return []
    y, x = np.unravel_index(int(sums.argmax()), sums.shape)
    across, down = 100.0 * x / sums.shape[1], 100.0 * y / sums.shape[0]
    heavy = 100.0 * float((sums > HEAVY).mean())
    return [
        Finding(
            "warn",
            f"it asks for up to {100.0 * sums.max():.0f} % of ink, heavily on {heavy:.1f} % of its area",
            where=f"{across:.0f} % from the left, {down:.0f} % from the top",
            advice="the mode's profile makes it again within its own total",
        )
    ]
