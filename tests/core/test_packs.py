"""Packs: what is written can be read, and what somebody tampered with is refused whole, with the reason."""

from __future__ import annotations

import io
import json
import stat
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.packs import Ahead, Archive, dump_pack, read_pack, schema, write_archive
from greyanchor.core.packs.archive import MOST_ALL, MOST_FILES, MOST_ONE, checked_name
from greyanchor.core.packs.loose import look_at, unpack
from greyanchor.core.printing.handling import SETTINGS

ENVIRONMENT = {
    "printer": "Petrel 44",
    "ink_set": "Tarn pigment",
    "media": "Kelp",
    "resolution": 1200,
    "passes": 8,
    "direction": "one way",
    "halftone": "blue noise",
    "heat": 36.0,
    "vacuum": 50.0,
}
LIMITS = {"C": 90.0, "M": 90.0, "Y": 95.0, "K": 100.0}
CURVES = CurveSet.straight({c: v / 100 for c, v in LIMITS.items()}).to_csv().encode()


def tiny_profile(channels: str = "CMYK", kind: str = "prtr") -> bytes:
    """A profile whose header says its channels and class; nobody asks for its tables here."""
    # by hand, from the tables of ICC.1:2010: header, one tag
    desc = icc.description_tag("Tiny")
    table = (1).to_bytes(4, "big") + b"desc" + (144).to_bytes(4, "big") + len(desc).to_bytes(4, "big")
    body = table + desc
    head = bytearray(128)
    head[0:4] = (128 + len(body)).to_bytes(4, "big")
    head[8:12] = b"\x02\x40\0\0"
    head[12:16], head[16:20], head[20:24] = kind.encode(), channels.encode().ljust(4), b"Lab "
    head[36:40] = b"acsp"
    head[24:36] = b"".join(v.to_bytes(2, "big") for v in (2026, 1, 1, 0, 0, 0))
    return bytes(head) + body


def manifest(**mode: Any) -> dict[str, Any]:
    facts = {
        "name": "Deck charts",
        "printer": "Petrel 44",
        "ink_set": "Tarn pigment",
        "media": "Kelp",
        "environment": dict(ENVIRONMENT),
        "limits": dict(LIMITS),
        "total_ink": 280.0,
        "profile": "profiles/a.icc",
        "curves": "curves/a.csv",
        "readings": [],
    }
    return {
        "title": "Test pack",
        "made_at": "2026-11-20T09:00:00+00:00",
        "modes": [{**facts, **mode}],
        "media": [{"name": "Kelp", "media_class": "synthetic", "maker": "Sound & Shoal", "weight": 190}],
        "media_classes": [{"name": "synthetic", "handling": {"vacuum": 65}}],
        "printers": [{"model": "Petrel 44"}],
        "ink_sets": [{"name": "Tarn pigment", "channels": list("CMYK")}],
        "presets": [],
    }


def packed(values: dict[str, Any] | None = None, files: dict[str, bytes] | None = None) -> bytes:
    files = {"profiles/a.icc": tiny_profile(), "curves/a.csv": CURVES} if files is None else files
    out = io.BytesIO()
    write_archive(out, dump_pack(values or manifest(), {n: (lambda d=d: d) for n, d in files.items()}))
    return out.getvalue()


def read(data: bytes) -> Any:
    with Archive(data, "test.zip") as archive:
        return read_pack(archive)


def altered(data: bytes, change: Callable[[dict[str, bytes]], None]) -> bytes:
    """The same archive with its files changed after it was packed."""
    files: dict[str, bytes] = {}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        for name in archive.namelist():
            files[name] = archive.read(name)
    change(files)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    return out.getvalue()


def edited(change: Callable[[dict[str, Any]], None]) -> bytes:
    def apply(files: dict[str, bytes]) -> None:
        found = json.loads(files["manifest.json"])
        change(found)
        files["manifest.json"] = json.dumps(found).encode()

    return altered(packed(), apply)


def test_what_is_packed_is_read_again_and_two_packs_of_one_thing_are_equal() -> None:
    data = packed()
    found = read(data)
    assert found.modes[0]["limits"] == LIMITS and found.named("media")["Kelp"]["weight"] == 190
    assert data == packed() and found.manifest["schema"] == 1


def test_the_schema_is_a_schema_and_holds_its_own_version() -> None:
    from jsonschema import Draft202012Validator

    Draft202012Validator.check_schema(schema())
    assert schema()["properties"]["schema"]["const"] == 1


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda m: m.update(schema=2), "schema version 2; this program reads version 1"),
        (lambda m: m.update(schema="1"), "schema version '1'"),
        (lambda m: m.update(format="else"), 'does not say "format"'),
        (lambda m: m.pop("modes"), "'modes' is a required property"),
        (lambda m: m.update(modes=[]), "modes"),
        (lambda m: m["modes"].append(m["modes"][0]), "Deck charts is there twice"),
        (lambda m: m["modes"][0].update(media="Nowhere"), "names the media Nowhere"),
        (lambda m: m["modes"][0].update(preset="Nowhere"), "names the preset Nowhere"),
        (lambda m: m["media"][0].update(media_class="Nowhere"), "names the media class Nowhere"),
        (lambda m: m["modes"][0]["limits"].update(C=140), "140 is greater than the maximum"),
        (lambda m: m["modes"][0]["limits"].update(O=40), "a limit for O"),
        (lambda m: m["modes"][0]["environment"].update(direction="sideways"), "sideways"),
        (lambda m: m["modes"][0]["environment"].update(colour="x"), "environment"),
        (lambda m: m["modes"][0].update(handling={"vacuum": 900}), "Vacuum of 900"),
        (lambda m: m["modes"][0].update(handling={"magic": 1}), "no handling setting called magic"),
        (lambda m: m["media_classes"][0].update(handling={"vacuum": -4}), "Vacuum of -4"),
        (
            lambda m: m["ink_sets"][0].update(channels=list("CMYKOGV")),
            "its profile is of C M Y K, its inks are C M Y K O G V",
        ),
        (
            lambda m: m["modes"][0].update(profile="profiles/b.icc"),
            "profiles/b.icc is used by a mode and not named",
        ),
        (
            lambda m: m["files"]["profiles/a.icc"].update(sha256="0" * 64),
            "profiles/a.icc is not what the manifest says",
        ),
        (lambda m: m["files"]["profiles/a.icc"].update(bytes=3), "the manifest says 3"),
        (
            lambda m: m["files"].update({"x.txt": {"sha256": "0" * 64, "bytes": 1}}),
            "x.txt is named in the manifest and missing",
        ),
        (lambda m: m["files"].pop("curves/a.csv"), "curves/a.csv is in the archive and not named"),
        (lambda m: m["media"][0].update(weight="heavy"), "'heavy' is not of type"),
    ],
)
def test_a_manifest_that_was_tampered_with_is_refused(
    change: Callable[[dict[str, Any]], None], reason: str
) -> None:
    with pytest.raises(BadInput) as refused:
        read(edited(change))
    assert reason in str(refused.value) and str(refused.value).startswith("test.zip")


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (lambda f: f.update({"profiles/a.icc": tiny_profile("RGB ")}), "its SHA-256 differs"),
        (lambda f: f.pop("profiles/a.icc"), "is named in the manifest and missing"),
        (lambda f: f.update({"manifest.json": b"{"}), "is no JSON"),
        (lambda f: f.update({"manifest.json": b'{"format": 1, "format": 2}'}), "names 'format' twice"),
        (lambda f: f.update({"manifest.json": b"[" * 100_000}), "nested too deep"),
        (lambda f: f.pop("manifest.json"), "it is no pack"),
        (lambda f: f.update({"extra.txt": b"x"}), "extra.txt is in the archive and not named"),
    ],
)
def test_files_that_were_tampered_with_are_refused(
    change: Callable[[dict[str, bytes]], None], reason: str
) -> None:
    with pytest.raises(BadInput) as refused:
        read(altered(packed(), change))
    assert reason in str(refused.value)


@pytest.mark.parametrize(
    ("space", "kind", "reason"),
    [("RGB ", "prtr", "its profile is of R G B"), ("CMYK", "mntr", "class 'mntr'")],
)
def test_a_profile_of_other_channels_or_of_a_screen_is_refused(space: str, kind: str, reason: str) -> None:
    with pytest.raises(BadInput, match=reason):
        read(packed(files={"profiles/a.icc": tiny_profile(space, kind), "curves/a.csv": CURVES}))


def test_curves_of_other_channels_and_broken_readings_are_refused() -> None:
    other = CurveSet.straight({"O": 1.0}).to_csv().encode()
    with pytest.raises(BadInput, match="its curves are of O"):
        read(packed(files={"profiles/a.icc": tiny_profile(), "curves/a.csv": other}))
    found = manifest(readings=[{"file": "readings/a.txt", "purpose": "profile"}])
    with pytest.raises(BadInput, match=r"readings/a\.txt"):
        read(
            packed(
                found,
                {"profiles/a.icc": tiny_profile(), "curves/a.csv": CURVES, "readings/a.txt": b"nothing"},
            )
        )


@pytest.mark.parametrize(
    "name", ["/etc/x", "C:/x", "\\\\host\\x", "../x", "a/../../x", "a//b", "./a", "a\\b", "x" * 300, "a/\0b"]
)
def test_names_that_lead_out_of_an_archive_are_refused(name: str) -> None:
    with pytest.raises(BadInput):
        checked_name(name)
    if "\0" not in name and "\\" not in name:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr(name, b"x")
        with pytest.raises(BadInput):
            Archive(out.getvalue())


def test_links_double_names_and_encrypted_files_are_refused() -> None:
    def one(*infos: tuple[zipfile.ZipInfo, bytes]) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for info, data in infos:
                archive.writestr(info, data)
        return out.getvalue()

    link = zipfile.ZipInfo("profiles/a.icc")
    link.external_attr = (stat.S_IFLNK | 0o777) << 16
    with pytest.raises(BadInput, match="is a link"):
        Archive(one((link, b"/etc/passwd")))
    device = zipfile.ZipInfo("null")
    device.external_attr = (stat.S_IFCHR | 0o666) << 16
    with pytest.raises(BadInput, match="no plain file"):
        Archive(one((device, b"")))
    with pytest.warns(UserWarning), pytest.raises(BadInput, match="there twice"):
        Archive(one((zipfile.ZipInfo("a.txt"), b"1"), (zipfile.ZipInfo("a.txt"), b"2")))
    with pytest.raises(BadInput, match="there twice"):
        Archive(one((zipfile.ZipInfo("a.txt"), b"1"), (zipfile.ZipInfo("A.TXT"), b"2")))
    locked = bytearray(one((zipfile.ZipInfo("a.txt"), b"1")))
    for signature, offset in ((b"PK\x01\x02", 8), (b"PK\x03\x04", 6)):
        locked[locked.index(signature) + offset] |= 1
    with pytest.raises(BadInput, match="encrypted"):
        Archive(bytes(locked))


def _claiming(size: int, name: str = "big.bin") -> bytes:
    """A small archive whose directory claims that a file has `size` bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(name, b"\0" * 100_000)
    data = bytearray(out.getvalue())
    at = data.index(b"PK\x01\x02")
    data[at + 24 : at + 28] = size.to_bytes(4, "little")
    return bytes(data)


def test_ten_gigabytes_when_unpacked_are_refused_before_anything_is_unpacked(tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="when unpacked"):
        Archive(_claiming(4 * 2**30 - 2))
    bomb = tmp_path / "bomb.zip"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:  # honest directory, 60 MB a file
        for i in range(MOST_ALL // (60 * 2**20) + 2):
            with archive.open(f"{i}.bin", "w") as one:
                one.write(b"\0" * 1000)
    raw = bytearray(bomb.read_bytes())
    at = 0
    while (at := raw.find(b"PK\x01\x02", at)) >= 0:
        raw[at + 24 : at + 28] = (60 * 2**20).to_bytes(4, "little")
        at += 4
    with pytest.raises(BadInput, match="more than 3 GB when unpacked"):
        Archive(bytes(raw))


def test_a_file_that_unpacks_to_another_size_than_reported_is_refused() -> None:
    for size in (50, 200_000):
        with Archive(_claiming(size)) as archive, pytest.raises(BadInput):
            archive.read("big.bin")


def test_what_is_no_zip_is_refused(tmp_path: Path) -> None:
    for data in (b"", b"PK\x03\x04", b"no zip at all" * 100, packed()[:-200]):
        with pytest.raises(BadInput, match="no ZIP file"):
            Archive(data)
    with pytest.raises(BadInput):
        Archive(tmp_path / "missing.zip")


def test_a_damaged_file_inside_is_refused() -> None:
    data = bytearray(packed())
    at = data.index(b"curves/a.csv") + 40
    data[at : at + 30] = b"\xff" * 30
    with pytest.raises(BadInput, match=r"curves/a\.csv"):
        read(bytes(data))


def test_loose_profiles_tell_channels_and_descriptions_and_what_is_none_is_text() -> None:
    inside = io.BytesIO()
    with zipfile.ZipFile(inside, "w") as archive:
        archive.writestr("sub/tiny.icc", tiny_profile())
        archive.writestr("sub/readme.txt", b"hello")
        archive.writestr("screen.icm", tiny_profile("RGB ", "mntr"))
    found = {
        p.file: p
        for p in unpack(
            [("all.zip", inside.getvalue()), ("again.icc", tiny_profile()), ("bad.icc", b"nothing")]
        )
    }
    assert set(found) == {"sub/tiny.icc", "screen.icm", "bad.icc"}
    assert found["sub/tiny.icc"].channels == tuple("CMYK") and found["sub/tiny.icc"].description == "Tiny"
    assert "no tables" in found["sub/tiny.icc"].against and "class 'mntr'" in found["screen.icm"].against
    assert "no ICC profile" in found["bad.icc"].against
    with pytest.raises(BadInput, match="no profile"):
        unpack([("x.zip", packed(files={}, values=manifest(profile=None, curves=None)))])
    assert look_at("x.icc", bytes(np.zeros(200, np.uint8))).against


def test_the_published_format_says_every_field_and_every_setting() -> None:
    page = (Path(__file__).parents[2] / "docs" / "pack-format.md").read_text()
    found = schema()
    fields = [*found["properties"], *found["$defs"]["mode"]["properties"], *SETTINGS]
    assert [f for f in fields if f not in page and f != "profile_title"] == []
    for limit in (f"{MOST_FILES:,}", f"{MOST_ONE // 2**20} MB", f"{MOST_ALL // 2**30} GB"):
        assert limit in page


def test_files_are_read_ahead_in_order_and_a_fault_is_reported_where_the_file_is_asked_for() -> None:
    out = io.BytesIO()
    write_archive(out, ((f"{i}.txt", bytes([i]) * 1000) for i in range(9)))
    begun: list[str] = []

    def look(archive: Archive, name: str) -> bytes:
        begun.append(name)
        if name == "5.txt":
            raise BadInput("this one is spoilt")
        return archive.read(name)

    with (
        Archive(out.getvalue()) as archive,
        Ahead(archive, [f"{i}.txt" for i in range(9)], look, depth=2) as ahead,
    ):
        assert ahead.of("0.txt") == bytes([0]) * 1000
        assert ahead.of("7.txt") == bytes([7]) * 1000, "one that was not to come next is read anyway"
        assert [ahead.of(f"{i}.txt")[0] for i in range(1, 5)] == [1, 2, 3, 4]
        assert len(begun) <= 4 + 2 + 2, "no more than a few are held"
        with pytest.raises(BadInput, match="spoilt"):
            ahead.of("5.txt")
        assert ahead.of("6.txt")[0] == 6 and archive.read("8.txt")[0] == 8
