"""Pages of PDF, PostScript and EPS, drawn by Ghostscript in a process of its own.

It runs with -dSAFER in an empty folder, may read that folder alone, and is stopped when it takes too long or
too much memory.
"""

from __future__ import annotations

import os
import re
import resource
import shutil
import subprocess
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from greyanchor.core.artwork.pictures import Picture, open_picture
from greyanchor.core.errors import BadInput

#: limits of one page: seconds of the processor, bytes of memory, bytes of a file that it writes
MOST_SECONDS = 600
MOST_MEMORY = 3 * 2**30
MOST_FILE = 40 * 2**30
#: pixels that a page is drawn with at most: a larger one is drawn coarser, and enlarged when it is printed
MOST_PIXELS = 1_500_000_000
#: resolutions of a page
_LEAST, _MOST = 5.0, 4800.0
#: dots an inch from which on edges are not smoothed
_SHARP = 400.0
#: what Ghostscript calls a pixel of a picture among its tags
_PICTURE_TAG = 2
#: spot colours of a page that have channels of their own
_MOST_SPOTS = 24
_BEGINNINGS = (b"%PDF-", b"%!PS", b"\xc5\xd0\xd3\xc6")
_INSTALL = "install Ghostscript (Debian: apt install ghostscript), then add the file again"


def is_page_file(path: Path) -> bool:
    """Whether a file holds pages, by how it begins: PDF, PostScript or EPS."""
    with open(path, "rb") as file:
        start = file.read(1024)
    return start.startswith(_BEGINNINGS[1:]) or b"%PDF-" in start


def ghostscript() -> str | None:
    """Where Ghostscript is; None where it is not installed."""
    return shutil.which("gs")


@dataclass(frozen=True)
class DrawnPage:
    """A page as files of pixels.

    Attributes
    ----------
    paths
        Its process colours in one file; or C, M, Y and K, each in its own, then spot colours; none where
        `tags` holds R G B too.
    resolution
        Dots an inch.
    spots
        Names of the spot colours.
    tags
        What each pixel is part of, raw; None where that was not asked for.
    """

    paths: tuple[Path, ...]
    resolution: float
    spots: tuple[str, ...] = ()
    tags: Path | None = None

    def picture(self) -> Picture:
        """The page, with its spot colours and its tag as channels of their own."""
        tagged = None if self.tags is None else _tagged(self.tags)
        if not self.paths:
            assert tagged is not None
            made = Picture(tagged[1:4].copy(interpretation="srgb"), "rgb", None, self.resolution, True)
        else:
            made = open_picture(self.paths[0])
        if len(self.paths) > 1:
            planes = [open_picture(p).image.invert() for p in self.paths]
            image = planes[0].bandjoin(planes[1:]).copy(interpretation="cmyk")
            made = replace(made, image=image, kind="cmyk", profile=None)
        if tagged is not None:
            made = replace(made, image=made.image.bandjoin(tagged[0] == _PICTURE_TAG), tagged=True)
        return replace(made, ppi=self.resolution, ppi_known=True, spots=self.spots)


def render_page(
    path: Path,
    page: int,
    folder: Path,
    resolution: float,
    width_mm: float | None = None,
    seconds: float = MOST_SECONDS,
    spots: Sequence[str] = (),
    tagged: bool = False,
) -> DrawnPage:
    """Draw one page, from 1, into `folder`.

    Where a width is given, the page is drawn so fine that it has `resolution` when printed that wide; half
    or a quarter so fine where it would have more than `MOST_PIXELS`. Cut contours are left out: a cutter
    follows them. A page with C M Y K or spot colours is drawn in C M Y K, any
    other page in R G B. Spot colours that `spots` names become channels of their own; others are drawn as
    what the file has in their place. With `tagged` a last channel parts pictures from text and drawing.

    Raises `BadInput`, naming the file, where Ghostscript is missing, refuses the file, or reaches a limit.
    """
    size = page_size(path, page)
    dots = resolution * (width_mm / 25.4 * 72.0 / size[0] if width_mm else 1.0)
    if not _LEAST <= dots <= _MOST:
        raise BadInput(
            f"the page would have to be drawn at {dots:.0f} dpi; {_LEAST:g} to {_MOST:g} are possible: "
            "choose another size or resolution",
            path.name,
        )
    while (pixels := size[0] / 72.0 * dots * size[1] / 72.0 * dots) > MOST_PIXELS:
        dots /= 2.0
    if dots < _LEAST:
        raise BadInput(
            f"the page would still have {pixels / 1e6:.0f} million pixels at {dots:.0f} dpi", path.name
        )
    device = "tiff24nc"
    own: tuple[str, ...] = ()
    if is_pdf(path):
        from greyanchor.core.artwork import pdf_rewriting
        from greyanchor.core.artwork.pdf_inspection import page_is_cmyk, spots_of_page

        there = spots_of_page(path, page)
        own = tuple(name for name in there if name in spots)[:_MOST_SPOTS]
        pdf_rewriting.rewrite(path, folder / "art.pdf", {n: _plane_name(i) for i, n in enumerate(own)})
        device = "tiff32nc" if page_is_cmyk(path, page) else device
    common = [f"-r{dots:.4f}", f"-dFirstPage={page}", f"-dLastPage={page}", "-dUseCropBox"]
    # at a printer's own resolution edges are sharp; smoothing them would take four times as long
    smooth = ["-dTextAlphaBits=4", "-dGraphicsAlphaBits=4"] if dots < _SHARP else []
    drawing = [*common, *smooth, "-sCompression=pack", "-sOutputFile=page.tif"]
    runs = [[f"-sDEVICE={device}", *drawing]]
    if own:
        names = " ".join(f"({_plane_name(i)})" for i in range(len(own)))
        kept = [f"-dMaxSpots={len(own)}", "-c", f"<< /SeparationColorNames [{names}] >> setpagedevice", "-f"]
        runs = [["-sDEVICE=tiffsep", *drawing, *kept]]
    tags = folder / "tags.pam" if tagged else None
    if tags is not None:
        tagging = ["-sDEVICE=bitrgbtags", *common, *smooth, f"-sOutputFile={tags.name}"]
        # what is R G B anyhow comes with its tags in one drawing
        runs = [tagging] if device == "tiff24nc" and not own else [*runs, tagging]
    _prepare(path, folder)
    with ThreadPoolExecutor(len(runs)) as pool:
        list(pool.map(lambda options: run(path, folder, options, seconds), runs))
    if tags is not None and len(runs) == 1:
        if not tags.exists():
            raise BadInput(f"it has no page {page}", path.name)
        return DrawnPage((), dots, own, tags)
    drawn = [folder / "page.tif"]
    if own:
        planes = ("Cyan", "Magenta", "Yellow", "Black", *(_plane_name(i) for i in range(len(own))))
        drawn[0].unlink(missing_ok=True)
        drawn = [folder / f"page({name}).tif" for name in planes]
    if not all(d.exists() for d in drawn):
        raise BadInput(f"it has no page {page}", path.name)
    return DrawnPage(tuple(drawn), dots, own, tags)


def _plane_name(place: int) -> str:
    return f"Own{place + 1}"


def _tagged(path: Path) -> Any:
    """Kind of object, red, green and blue of each pixel, from a PAM of Ghostscript."""
    import pyvips

    with open(path, "rb") as file:
        head = file.read(512)
    start = head.index(b"ENDHDR\n") + len(b"ENDHDR\n")
    sizes = [re.search(rb"%s\s+(\d+)" % key, head) for key in (b"WIDTH", b"HEIGHT")]
    width, height = (int(found.group(1)) for found in sizes if found)
    return pyvips.Image.rawload(str(path), width, height, 4, offset=start)


def page_size(path: Path, page: int = 1) -> tuple[float, float]:
    """Width and height of a page as it is seen, in points."""
    if is_pdf(path):
        from greyanchor.core.artwork.pdf import page_box

        return page_box(path, page)
    box = re.search(
        rb"%%(?:HiRes)?BoundingBox:\s*(-?[\d.]+)\s+(-?[\d.]+)\s+(-?[\d.]+)\s+(-?[\d.]+)",
        path.read_bytes()[:65536],
    )
    if box:
        left, bottom, right, top = (float(v) for v in box.groups())
        if right > left and top > bottom:
            return right - left, top - bottom
    return 595.0, 842.0


def is_pdf(path: Path) -> bool:
    """Whether a file is a PDF, by how it begins."""
    with open(path, "rb") as file:
        return b"%PDF-" in file.read(1024)


def _source(path: Path, folder: Path) -> Path:
    return folder / ("art.pdf" if is_pdf(path) else "art.ps")


def _prepare(path: Path, folder: Path) -> None:
    """The file in Ghostscript's own folder, unless a rewritten copy is there."""
    source = _source(path, folder)
    if not source.exists():
        try:
            os.link(path, source)
        except OSError:
            shutil.copyfile(path, source)


def run(path: Path, folder: Path, options: list[str], seconds: float = MOST_SECONDS) -> None:
    """Ghostscript on a copy of the file in its own folder, which may be there already, rewritten; nothing
    else may be read or written.

    Raises `BadInput`, naming the file, where it is missing, refuses the file, or reaches a limit.
    """
    _prepare(path, folder)
    program = ghostscript()
    if program is None:
        raise BadInput(f"pages cannot be drawn here: {_INSTALL}", path.name)
    folder = folder.resolve()
    is_eps = not is_pdf(path)
    source = _source(path, folder)
    command = [
        program, "-dSAFER", "-dBATCH", "-dNOPAUSE", "-q", "-dNOPROMPT", "-dPDFSTOPONERROR=false",
        f"--permit-file-read={folder}/*", *(["-dEPSCrop"] if is_eps else []), *options, source.name,
    ]  # fmt: skip
    environment = {
        "PATH": os.environ.get("PATH", ""),
        "TMPDIR": str(folder),
        "HOME": str(folder),
        "LANG": "C",
    }
    try:
        done = subprocess.run(
            command,
            cwd=folder,
            env=environment,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=seconds + 5,
            preexec_fn=lambda: _limit(seconds),
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise BadInput(f"drawing it took longer than {seconds:g} s: it may never end", path.name) from error
    said = (done.stdout + done.stderr).decode("utf-8", "replace")
    if done.returncode == 0:
        return
    raise BadInput(_why(done.returncode, said, seconds), path.name)


def _limit(seconds: float) -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (int(seconds) + 1, int(seconds) + 2))
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (MOST_FILE, MOST_FILE))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _why(code: int, said: str, seconds: float) -> str:
    if code < 0:
        if -code in (24, 9):
            return f"drawing it took longer than {seconds:g} s of the processor: it may never end"
        return "drawing it was stopped: it needs more memory or space than a page may take"
    if "invalidfileaccess" in said:
        return "it tries to read or write other files, which is refused"
    if "This file requires a password" in said or "password" in said.lower():
        return "it is locked by a password: send it without one"
    if "VMerror" in said or "insufficient memory" in said.lower():
        return "drawing it needs more memory than a page may take"
    first = next((line.strip() for line in said.splitlines() if "rror" in line), "")
    return f"it cannot be drawn ({first[:160] or f'Ghostscript ended with {code}'})"
