"""An instrument whose passes arrive as files in a folder."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.core.formats.files import read_limited
from greyanchor.core.plain_text import file_name
from greyanchor.devices.ports import Arrival

#: a file is taken once its size stood still for this long, seconds
SETTLED = 1.0
#: largest file that is read, bytes
LARGEST = 16 * 2**20
#: endings that readings have; everything else in the folder is left alone
ENDINGS = (".txt", ".cxf", ".xml", ".csv", ".cgats")
#: letters of a name that is put away; a number and the ending of the reason must fit behind it
_LONGEST = 60
TAKEN, REFUSED = "taken", "refused"


class FolderInstrument:
    """Watches a folder. A file that was used goes to ``taken``, another to ``refused`` with the reason next
    to it.
    """

    name = "folder instrument"

    def __init__(self, folder: Path, settled: float = SETTLED, largest: int = LARGEST) -> None:
        self._folder, self._settled, self._largest = folder, settled, largest

    def prepare(self) -> Path:
        """The folder with its two parts, made where they are not there."""
        for part in ("", TAKEN, REFUSED):
            (self._folder / part).mkdir(parents=True, exist_ok=True)
        return self._folder

    def arrivals(self) -> Iterator[Arrival]:
        now = time.time()
        for path in sorted(self.prepare().iterdir()):
            try:
                plain = path.is_file() and not path.is_symlink() and path.suffix.lower() in ENDINGS
                if not plain or now - path.stat().st_mtime < self._settled:
                    continue
            except OSError:
                continue  # it went meanwhile
            try:
                yield Arrival(path.name, read_limited(path, self._largest))
            except BadInput as error:
                yield Arrival(path.name, refused=str(error))

    def put_away(self, arrival: Arrival, taken: bool, reason: str = "") -> None:
        name = file_name(arrival.name, _LONGEST)
        target = _free(self._folder / (TAKEN if taken else REFUSED) / name)
        shutil.move(self._folder / arrival.name, target)
        if not taken:
            target.with_name(f"{target.name}.reason.txt").write_text(f"{reason}\n", "utf-8", "replace")


def _free(path: Path) -> Path:
    """`path`, with a number in its name when it is taken."""
    found, number = path, 2
    while found.exists():
        found, number = path.with_name(f"{path.stem}-{number}{path.suffix}"), number + 1
    return found
