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
from dataclasses import dataclass, replace
from pathlib import Path

from greyanchor.core.artwork.pictures import Picture, open_picture
from greyanchor.core.errors import BadInput

#: limits of one page: seconds of the processor, bytes of memory, bytes of a file that it writes
MOST_SECONDS = 600
MOST_MEMORY = 3 * 2**30
MOST_FILE = 40 * 2**30
#: pixels that a page is drawn with at most
MOST_PIXELS = 8_000_000_000
#: resolutions of a page
_LEAST, _MOST = 5.0, 4800.0
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
    path
        Its process colours.
    resolution
        Dots an inch.
    """

    path: Path
    resolution: float

    def picture(self) -> Picture:
        """The process colours."""
        return replace(open_picture(self.path), ppi=self.resolution, ppi_known=True)


def render_page(
    path: Path,
    page: int,
    folder: Path,
    resolution: float,
    width_mm: float | None = None,
    seconds: float = MOST_SECONDS,
) -> DrawnPage:
    """Draw one page, from 1, into `folder`.

    Where a width is given, the page is drawn so fine that it has `resolution` when printed that wide. Cut
    contours are left out: a cutter follows them. A page with C M Y K or spot colours is drawn in C M Y K, its
    spot colours as what the file has in their place; any other page in R G B.

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
    pixels = size[0] / 72.0 * dots * size[1] / 72.0 * dots
    if pixels > MOST_PIXELS:
        raise BadInput(
            f"the page would have {pixels / 1e6:.0f} million pixels; {MOST_PIXELS // 10**6} are possible",
            path.name,
        )
    device = "tiff24nc"
    if _is_pdf(path):
        from greyanchor.core.artwork.pdf_inspection import page_is_cmyk, without_contours

        without_contours(path, folder / "art.pdf")
        device = "tiff32nc" if page_is_cmyk(path, page) else device
    _run(
        path,
        folder,
        [
            f"-sDEVICE={device}",
            f"-r{dots:.4f}",
            f"-dFirstPage={page}",
            f"-dLastPage={page}",
            "-dTextAlphaBits=4",
            "-dGraphicsAlphaBits=4",
            "-dUseCropBox",
            "-sCompression=lzw",
            "-sOutputFile=page.tif",
        ],
        seconds,
    )
    drawn = folder / "page.tif"
    if not drawn.exists():
        raise BadInput(f"it has no page {page}", path.name)
    return DrawnPage(drawn, dots)


def page_size(path: Path, page: int = 1) -> tuple[float, float]:
    """Width and height of a page as it is seen, in points."""
    if _is_pdf(path):
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


def _is_pdf(path: Path) -> bool:
    with open(path, "rb") as file:
        return b"%PDF-" in file.read(1024)


def _run(path: Path, folder: Path, options: list[str], seconds: float) -> None:
    """Ghostscript on a copy of the file in its own folder; nothing else may be read or written."""
    program = ghostscript()
    if program is None:
        raise BadInput(f"pages cannot be drawn here: {_INSTALL}", path.name)
    is_eps = not _is_pdf(path)
    source = folder / ("art.pdf" if not is_eps else "art.ps")
    if not source.exists():
        try:
            os.link(path, source)
        except OSError:
            shutil.copyfile(path, source)
    command = [
        program, "-dSAFER", "-dBATCH", "-dNOPAUSE", "-q", "-dNOPROMPT", "-dPDFSTOPONERROR=false",
        *(["-dEPSCrop"] if is_eps else []), *options, f"--permit-file-read={folder}/*", source.name,
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
