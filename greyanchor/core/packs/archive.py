"""ZIP files from anybody: names, kinds and sizes are looked at before anything is unpacked, and again while
it is.
"""

from __future__ import annotations

import hashlib
import io
import re
import stat
import struct
import zipfile
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import Generic, TypeVar

from greyanchor.core.errors import BadInput

#: most files in an archive, most bytes of one when unpacked, and of all together
MOST_FILES = 20_000
MOST_ONE = 64 * 2**20
MOST_ALL = 3 * 2**30
_CHUNK = 1 << 20
T = TypeVar("T")


def checked_name(name: str) -> str:
    """A path inside an archive that stays inside; `BadInput` for every other kind of name."""
    if name.startswith(("/", "\\")) or re.match(r"^[A-Za-z]:", name):
        raise BadInput(f"the archive holds an absolute path, {name[:80]!r}; nothing was unpacked")
    if "\\" in name or "\0" in name:
        raise BadInput(f"the archive holds a path with a backslash or a zero in it, {name[:80]!r}")
    parts = name.split("/")
    if ".." in parts:
        raise BadInput(f"the archive holds a path that leads out of it, {name[:80]!r}; nothing was unpacked")
    if any(p in ("", ".") for p in parts):
        raise BadInput(f"the archive holds a path with an empty part, {name[:80]!r}")
    if len(name) > 240:
        raise BadInput(f"the archive holds a path of {len(name)} letters; 240 are allowed")
    return name


class Archive:
    """A ZIP file opened for reading; all of its names are sound once it is open.

    Raises `BadInput` for what is no ZIP, for paths that lead out, links, double names, encrypted
    files, and for more than `MOST_FILES` files or `MOST_ALL` bytes.
    """

    def __init__(self, source: Path | bytes, name: str = "archive") -> None:
        self.name, self._source = name, source
        try:
            self._zip = zipfile.ZipFile(io.BytesIO(source) if isinstance(source, bytes) else source)
            infos = self._zip.infolist()
        except (
            zipfile.BadZipFile,
            OSError,
            ValueError,
            NotImplementedError,
            LookupError,
            struct.error,
        ) as error:
            raise BadInput(f"this is no ZIP file, or it is damaged ({error})", name) from None
        try:
            self._infos = self._checked(infos)
            self._sizes = {name: info.file_size for name, info in self._infos.items()}
        except BadInput as error:
            self._zip.close()
            raise error.at(name) from None

    @staticmethod
    def _checked(infos: list[zipfile.ZipInfo]) -> dict[str, zipfile.ZipInfo]:
        if len(infos) > MOST_FILES:
            raise BadInput(f"it holds {len(infos)} files; {MOST_FILES} are allowed")
        out: dict[str, zipfile.ZipInfo] = {}
        folded: set[str] = set()
        total = 0
        for info in infos:
            raw = info.orig_filename if "\0" in info.orig_filename else info.filename
            if not info.filename:
                raise BadInput("it holds a file without a name")
            if info.is_dir():
                checked_name(raw.rstrip("/") or "/")
                continue
            name = checked_name(raw)
            kind = stat.S_IFMT(info.external_attr >> 16)
            if kind == stat.S_IFLNK:
                raise BadInput(f"{name} is a link; archives hold plain files alone")
            if kind not in (0, stat.S_IFREG):
                raise BadInput(f"{name} is no plain file")
            if info.flag_bits & 0x1:
                raise BadInput(f"{name} is encrypted; send it without a password")
            if name.casefold() in folded:
                raise BadInput(f"{name} is there twice")
            if info.file_size > MOST_ONE:
                raise BadInput(
                    f"{name} has {info.file_size / 2**20:.0f} MB when unpacked; {MOST_ONE // 2**20} are "
                    "allowed"
                )
            total += info.file_size
            if total > MOST_ALL:
                raise BadInput(f"it has more than {MOST_ALL / 2**30:.0f} GB when unpacked")
            folded.add(name.casefold())
            out[name] = info
        return out

    def __enter__(self) -> Archive:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._zip.close()

    def again(self) -> Archive:
        """The same archive opened once more, for a thread of its own."""
        return Archive(self._source, self.name)

    def names(self) -> list[str]:
        """Paths of all files, in the order of the archive."""
        return list(self._infos)

    def sizes(self) -> Mapping[str, int]:
        """Bytes when unpacked, as the archive says."""
        return self._sizes

    def read(self, name: str) -> bytes:
        """The bytes of one file; never more than the archive said, whatever its packed data says.

        Raises `BadInput` for a file that is not there or is damaged.
        """
        if name not in self._infos:
            raise BadInput(f"{name} is not in the archive", self.name)
        info = self._infos[name]
        try:
            with self._zip.open(info) as opened:
                data = opened.read(info.file_size + 1)
        except (zipfile.BadZipFile, OSError, EOFError, NotImplementedError, ValueError) as error:
            raise BadInput(f"{name} is damaged ({error})", self.name) from None
        except Exception as error:  # zlib.error and what other packings raise
            raise BadInput(f"{name} cannot be unpacked ({error})", self.name) from None
        if len(data) != info.file_size:
            raise BadInput(f"{name} has another size than the archive says", self.name)
        return data


class Ahead(Generic[T]):
    """Reads files of an archive in a thread of its own, a few ahead of whoever asks for them in the order of
    `names`.

    Unpacking and hashing leave the interpreter free, so that a large pack comes in on two cores. `work` is
    done with the archive and a name; what it raises is raised where the file is asked for.
    """

    def __init__(
        self, archive: Archive, names: Sequence[str], work: Callable[[Archive, str], T], depth: int = 4
    ) -> None:
        self._archive = archive.again()
        self._work, self._left = work, deque(names)
        self._pool = ThreadPoolExecutor(1)
        self._going: deque[tuple[str, Future[T]]] = deque()
        for _ in range(depth):
            self._next()

    def _next(self) -> None:
        if self._left:
            name = self._left.popleft()
            self._going.append((name, self._pool.submit(self._work, self._archive, name)))

    def of(self, name: str) -> T:
        """What the work made of a file; worked out here and now for one that was not to come next."""
        if not self._going or self._going[0][0] != name:
            return self._pool.submit(self._work, self._archive, name).result()
        found = self._going.popleft()[1].result()
        self._next()
        return found

    def __enter__(self) -> Ahead[T]:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)
        self._archive.__exit__(None, None, None)


def sha256_of(data: bytes) -> str:
    """SHA-256 in hex digits."""
    return hashlib.sha256(data).hexdigest()


def file_hash(path: Path) -> str:
    """SHA-256 of a file, read in pieces."""
    found = hashlib.sha256()
    with path.open("rb") as opened:
        for chunk in iter(lambda: opened.read(_CHUNK), b""):
            found.update(chunk)
    return found.hexdigest()


def write_archive(target: Path | io.BytesIO, files: Iterator[tuple[str, bytes]]) -> None:
    """Write files into a ZIP whose bytes depend on their names and content alone, not on the clock."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name, data in files:
            info = zipfile.ZipInfo(checked_name(name), (2026, 1, 1, 0, 0, 0))
            info.external_attr = (stat.S_IFREG | 0o644) << 16
            info.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(info, data)


def version_key(version: str) -> tuple[int, ...]:
    """A version as numbers that sort: ``1.10`` comes after ``1.9``."""
    return tuple(int(p) for p in version.split("."))
