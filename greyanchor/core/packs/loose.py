"""Profiles that came without a pack: loose files, or a ZIP of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.packs.archive import Archive, sha256_of

#: most bytes of one profile
MOST = 32 * 2**20
_ENDINGS = (".icc", ".icm")


@dataclass(frozen=True)
class LooseProfile:
    """A profile as its file says: description, channels, and why it cannot be taken (empty when it can)."""

    file: str
    description: str
    channels: tuple[str, ...]
    version: str
    data: bytes
    against: str = ""

    @property
    def sha256(self) -> str:
        """Hash of its bytes, in hexadecimal."""
        return sha256_of(self.data)


def look_at(file: str, data: bytes) -> LooseProfile:
    """Read channels and description of one file; what is no printer profile is reported in `against`.

    Nothing is raised: a reason in `against` is what other functions say with `BadInput`.
    """
    name = file.rpartition("/")[2]
    try:
        if len(data) > MOST:
            raise BadInput(f"the file is larger than {MOST // 2**20} MB")
        if not icc.is_profile(data[:4096]):
            raise BadInput("this is no ICC profile")
        found = icc.loads(data, name)
        against = ""
        if found.device_class != "prtr":
            against = f"a profile of class {found.device_class!r}, not of a printer"
        elif "A2B0" not in found.tags and "A2B1" not in found.tags:
            against = "it has no tables from device to colour"
        title = found.description.strip() or name.rpartition(".")[0]
        return LooseProfile(file, title[:160], found.inks, "{}.{}".format(*found.version), data, against)
    except BadInput as error:
        return LooseProfile(file, name, (), "", b"", error.reason)


def unpack(sent: Iterable[tuple[str, bytes]]) -> list[LooseProfile]:
    """Profiles of files and of ZIP files among them; `BadInput` where there is none at all.

    Equal files are taken once. Other kinds of files inside a ZIP are passed over.
    """
    found: dict[str, LooseProfile] = {}
    for name, data in sent:
        if data[:2] == b"PK":
            with Archive(data, name) as archive:
                inside = [n for n in archive.names() if n.lower().endswith(_ENDINGS)]
                files = [(n, archive.read(n)) for n in inside]
        else:
            files = [(name, data)]
        for file, content in files:
            seen = look_at(file, content)
            found.setdefault(seen.sha256 if seen.data else file, seen)
    if not found:
        raise BadInput("there is no profile (.icc or .icm) among these files")
    return list(found.values())
