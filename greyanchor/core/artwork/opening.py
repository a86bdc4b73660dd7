"""Any artwork as a picture: picture files as they are, pages through Ghostscript."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from greyanchor.core.artwork.pages import is_page_file, render_page
from greyanchor.core.artwork.pictures import Picture, open_picture
from greyanchor.core.errors import BadInput

#: pages are drawn at this where nobody says how fine
USUAL_RESOLUTION = 300.0


@dataclass(frozen=True)
class Opened:
    """Artwork that can be read several times, each time from the top."""

    picture: Callable[[], Picture]


@contextmanager
def open_artwork(
    path: str | Path,
    page: int = 1,
    resolution: float | None = None,
    width_mm: float | None = None,
    random: bool = False,
    spots: Sequence[str] = (),
    tagged: bool = False,
) -> Iterator[Opened]:
    """A picture of one page, drawn as fine as `resolution` and `width_mm` need where it is a page.
    `random` reads pictures anywhere in them, which turning by a quarter needs; `spots` and `tagged` are those
    of `render_page`.

    What was drawn lasts as long as the context. Raises `BadInput`.
    """
    path = Path(path)
    if not path.exists():
        raise BadInput("cannot be read: No such file or directory", path.name)
    if not is_page_file(path):
        yield Opened(lambda: open_picture(path, page, random))
        return
    with tempfile.TemporaryDirectory(prefix="greyanchor-page-") as folder:
        dots = resolution or USUAL_RESOLUTION
        drawn = render_page(path, page, Path(folder), dots, width_mm, spots=spots, tagged=tagged)
        yield Opened(lambda: drawn.picture())
