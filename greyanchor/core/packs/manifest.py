"""The manifest of a pack: its schema, and a pack held to it and to its own files."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.packs.archive import Ahead, Archive, sha256_of
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.handling import checked

if TYPE_CHECKING:
    from jsonschema import Draft202012Validator

FORMAT, SCHEMA_VERSION = "print-mode-pack", 1
MANIFEST = "manifest.json"
_MOST_MANIFEST = 32 * 2**20
_SCHEMA = Path(__file__).with_name("schema.json")
Progress = Callable[[float, str], None]


def schema() -> dict[str, Any]:
    """The published JSON Schema of a manifest."""
    return json.loads(_SCHEMA.read_text())


@lru_cache(maxsize=1)
def _validator() -> Draft202012Validator:
    from jsonschema import Draft202012Validator  # a second and a half to import: not at every start

    return Draft202012Validator(schema())


@dataclass(frozen=True)
class Pack:
    """A pack whose manifest, hashes and files are all sound."""

    manifest: dict[str, Any]
    name: str

    @property
    def modes(self) -> list[dict[str, Any]]:
        """The print modes in it, as the manifest has them."""
        return list(self.manifest["modes"])

    def named(self, kind: str, key: str = "name") -> dict[str, dict[str, Any]]:
        """Records of a kind (``media``, ``presets``, ...) by name."""
        return {r[key]: r for r in self.manifest.get(kind, [])}


def read_pack(archive: Archive, report: Progress | None = None) -> Pack:
    """Read and test a whole pack; `BadInput` says what is wrong with it, and then nothing of it is used.

    Tested are: the version, the schema, that every file is named with its hash and none is there
    beside them, the hashes, that every mode's printer, inks, media and preset are in the manifest, that
    environments and handling settings make sense, and that profile, curves and limits are of the
    channels of the ink set.
    """
    try:
        manifest = _manifest(archive)
        _same_files(archive, manifest)
        _names_meet(manifest)
        with Ahead(archive, _in_order(manifest), _hashed) as ahead:
            contents = _Contents(ahead, manifest, report or (lambda share, text: None))
            for mode in manifest["modes"]:
                _test_mode(mode, manifest, contents)
            contents.test_the_rest()
    except BadInput as error:
        raise (error if error.source else error.at(archive.name)) from None
    return Pack(manifest, archive.name)


def read_tested(archive: Archive) -> Pack:
    """A pack that `read_pack` has tested before, byte for byte: whoever calls holds the file to its hash
    first.
    """
    return Pack(_manifest(archive, tested=True), archive.name)


def _manifest(archive: Archive, tested: bool = False) -> dict[str, Any]:
    if MANIFEST not in archive.sizes():
        raise BadInput(f"it has no {MANIFEST}, so it is no pack of print modes")
    if archive.sizes()[MANIFEST] > _MOST_MANIFEST:
        raise BadInput(f"its {MANIFEST} is larger than {_MOST_MANIFEST // 2**20} MB")
    try:
        found = json.loads(archive.read(MANIFEST).decode("utf-8-sig"), object_pairs_hook=_once)
    except RecursionError:
        raise BadInput(f"its {MANIFEST} is nested too deep") from None
    except ValueError as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput(f"its {MANIFEST} is no JSON ({error})") from None
    if not isinstance(found, dict) or found.get("format") != FORMAT:
        raise BadInput(f'its {MANIFEST} does not say "format": "{FORMAT}"')
    if found.get("schema") != SCHEMA_VERSION:
        raise BadInput(
            f"it is of schema version {found.get('schema')!r}; this program reads version {SCHEMA_VERSION}"
        )
    if tested:
        return found
    wrong = next(
        iter(sorted(_validator().iter_errors(found), key=lambda e: list(map(str, e.absolute_path)))), None
    )
    if wrong is not None:
        place = "/".join(map(str, wrong.absolute_path)) or "the manifest"
        raise BadInput(f"{MANIFEST}, {place}: {wrong.message[:200]}")
    return found


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    out = dict(pairs)
    if len(out) != len(pairs):
        seen: set[str] = set()
        double = next(k for k, _ in pairs if k in seen or seen.add(k))  # type: ignore[func-returns-value]
        raise BadInput(f"its {MANIFEST} names {double!r} twice")
    return out


def _same_files(archive: Archive, manifest: dict[str, Any]) -> None:
    there, named = set(archive.names()) - {MANIFEST}, set(manifest["files"])
    if missing := sorted(named - there):
        raise BadInput(
            f"{missing[0]} is named in the manifest and missing" + _more(len(missing), "missing file")
        )
    if strange := sorted(there - named):
        raise BadInput(
            f"{strange[0]} is in the archive and not named in the manifest" + _more(len(strange), "such file")
        )
    for name, parts in manifest["files"].items():
        if parts["bytes"] != archive.sizes()[name]:
            raise BadInput(f"{name} has {archive.sizes()[name]} bytes, the manifest says {parts['bytes']}")


def _more(count: int, what: str) -> str:
    return f", and {count - 1} more {what}{'s' if count > 2 else ''}" if count > 1 else ""


def _names_meet(manifest: dict[str, Any]) -> None:
    """Every name that is used is reported, once."""
    names: dict[str, set[str]] = {}
    for kind, key in (
        ("modes", "name"),
        ("media", "name"),
        ("media_classes", "name"),
        ("printers", "model"),
        ("ink_sets", "name"),
        ("presets", "name"),
    ):
        items = [r[key] for r in manifest.get(kind, [])]
        double = (
            next((n for n in items if items.count(n) > 1), None) if len(set(items)) < len(items) else None
        )
        if double is not None:
            raise BadInput(f"{kind.replace('_', ' ')}: {double} is there twice")
        names[kind] = set(items)
    for media in manifest["media"]:
        _meet(names["media_classes"], media["media_class"], f"media {media['name']}", "media class")
    for preset in manifest.get("presets", []):
        _meet(names["media"], preset["media"], f"preset {preset['name']}", "media")
        checked(preset.get("handling", {}))
    for group in manifest["media_classes"]:
        checked(group.get("handling", {}))
    for mode in manifest["modes"]:
        whose = f"mode {mode['name']}"
        _meet(names["printers"], mode["printer"], whose, "printer")
        _meet(names["ink_sets"], mode["ink_set"], whose, "ink set")
        _meet(names["media"], mode["media"], whose, "media")
        if mode.get("preset"):
            _meet(names["presets"], mode["preset"], whose, "preset")


def _meet(known: set[str], name: str, whose: str, what: str) -> None:
    if name not in known:
        raise BadInput(f"{whose} names the {what} {name}, which the manifest does not say")


def _in_order(manifest: dict[str, Any]) -> list[str]:
    """Files of a pack in the order in which they are tested: mode by mode, then those that no mode asks
    for.
    """
    asked = [
        name
        for m in manifest["modes"]
        for name in (m.get("profile"), m.get("curves"), *(r["file"] for r in m.get("readings", [])))
        if name in manifest["files"]
    ]
    return list(dict.fromkeys([*asked, *manifest["files"]]))


def _hashed(archive: Archive, name: str) -> tuple[bytes, str]:
    data = archive.read(name)
    return data, sha256_of(data)


class _Contents:
    """Files of a pack, each read, held to its hash and looked at once."""

    def __init__(self, ahead: Ahead[tuple[bytes, str]], manifest: dict[str, Any], report: Progress) -> None:
        self.ahead, self.manifest, self.report = ahead, manifest, report
        self._seen: dict[str, Any] = {}
        self._tested: set[str] = set()

    def test_the_rest(self) -> None:
        """Hold those files to their hashes that no mode asked for."""
        for name in self.manifest["files"]:
            if name not in self._tested:
                self.file(name)

    def inks_of(self, name: str) -> tuple[str, ...]:
        """Channels of a profile."""
        if name not in self._seen:
            found = icc.loads(self.file(name), name)
            if found.device_class != "prtr":
                raise BadInput(f"{name} is a profile of class {found.device_class!r}, not of a printer")
            self._seen[name] = found.inks
        return self._seen[name]

    def curve_channels(self, name: str) -> tuple[str, ...]:
        """Channels of a curve file."""
        if name not in self._seen:
            self._seen[name] = CurveSet.from_csv(cgats.decode(self.file(name)), name).channels
        return self._seen[name]

    def read_readings(self, name: str) -> None:
        """Refuse readings that are none."""
        if name not in self._seen:
            self._seen[name] = bool(len(cgats.loads(self.file(name), name)))

    def file(self, name: str) -> bytes:
        if name not in self.manifest["files"]:
            raise BadInput(f"{name} is used by a mode and not named under files")
        (data, digest), count = self.ahead.of(name), len(self.manifest["files"])
        if digest != self.manifest["files"][name]["sha256"]:
            raise BadInput(f"{name} is not what the manifest says: its SHA-256 differs")
        self._tested.add(name)
        if len(self._tested) % 25 == 1:
            self.report(len(self._tested) / count, f"testing file {len(self._tested)} of {count}")
        return data


def _test_mode(mode: dict[str, Any], manifest: dict[str, Any], contents: _Contents) -> None:
    whose = f"mode {mode['name']}"
    inks = next(i for i in manifest["ink_sets"] if i["name"] == mode["ink_set"])
    channels = [*inks["channels"], *inks.get("light", {})]
    try:
        PrintEnvironment(**mode["environment"])
        checked(mode.get("handling", {}))
        if strange := sorted(set(mode["limits"]) - set(channels)):
            raise BadInput(f"a limit for {strange[0]}, which {inks['name']} does not have")
        if mode.get("profile"):
            found = contents.inks_of(mode["profile"])
            if list(found) != list(inks["channels"]):
                raise BadInput(
                    f"its profile is of {' '.join(found)}, its inks are {' '.join(inks['channels'])}"
                )
        if mode.get("curves"):
            curves = contents.curve_channels(mode["curves"])
            if not set(curves) <= set(channels):
                raise BadInput(f"its curves are of {' '.join(curves)}, its inks are {' '.join(channels)}")
        for parts in mode.get("readings", []):
            contents.read_readings(parts["file"])
    except TypeError as error:
        raise BadInput(f"{whose}: its environment is not understood ({error})") from None
    except BadInput as error:
        raise BadInput(f"{whose}: {error}") from None


def dump_pack(
    manifest: Mapping[str, Any], files: Mapping[str, Callable[[], bytes]], report: Progress | None = None
) -> Iterator[tuple[str, bytes]]:
    """Names and bytes of a pack for `write_archive`: the files, one at a time, and the manifest with
    their hashes last.

    `files` gives each file's bytes when it is asked, so that a large pack is never in memory whole.
    `report` hears how far it is, and may raise to stop it.

    Raises `BadInput` for a manifest that does not keep to the schema.
    """
    facts: dict[str, dict[str, Any]] = {}
    for i, (name, content) in enumerate(files.items()):
        if report is not None and i % 10 == 0:
            report(i / len(files), f"packing file {i + 1} of {len(files)}")
        data = content()
        facts[name] = {"sha256": sha256_of(data), "bytes": len(data)}
        yield name, data
    whole = {"format": FORMAT, "schema": SCHEMA_VERSION, **manifest, "files": facts}
    wrong = next(iter(_validator().iter_errors(whole)), None)
    if wrong is not None:
        raise BadInput(
            f"this cannot be packed: {'/'.join(map(str, wrong.absolute_path))}: {wrong.message[:200]}"
        )
    yield MANIFEST, json.dumps(whole, indent=1, ensure_ascii=False).encode()
