"""Profiles made elsewhere: taken when they belong, doubted with reasons, refused when they cannot be used."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest

from greyanchor.core.charts import patches
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.formats.icc_tables import encode_lut16
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.attached import Examination, examine
from greyanchor.core.profiling.build import ProfileResult
from tests.conftest import PrintRoom, make_room


@pytest.fixture(scope="module")
def fresh(room: PrintRoom) -> ReadingSet:
    """Readings of the same press that the profile was not made from."""
    return room.read(patches.profile_patches(300, 3.0, seed=8), seed=77)


@pytest.fixture(scope="module")
def found(built: ProfileResult, fresh: ReadingSet) -> Examination:
    return examine(built.data, "elsewhere.icc", 3.0, fresh)


def rewritten(data: bytes, name: str, change) -> bytes:  # type: ignore[no-untyped-def]
    """The profile with one table's grid changed, and its tags put together again."""
    profile = icc.loads(data)
    lut, _ = profile.lut(name)
    tags = dict(profile.tags)
    tags[name] = encode_lut16(replace(lut, grid=change(lut.grid.copy())))
    return icc.build(tags, tuple("CMYK"), 4, datetime(2026, 1, 1, tzinfo=UTC))


def test_a_profile_that_belongs_is_taken_without_doubt(built: ProfileResult, found: Examination) -> None:
    assert found.doubts == ()
    assert found.report["held_out"]["mean"] < 0.6, "against readings that never shaped it"
    assert found.report["gamut_volume"] == pytest.approx(built.report["gamut_volume"], rel=0.03)
    assert found.report["round_trip"]["mean"] < 0.5 and found.report["fit"] is None
    assert found.report["white"] == pytest.approx(built.report["white"], abs=0.05)


def test_a_profile_of_another_print_is_refused_or_doubted(built: ProfileResult) -> None:
    bond = make_room("petrel-44/thrift-bond-90").read(patches.profile_patches(300, 2.4, seed=8), seed=3)
    with pytest.raises(BadInput, match="describes another print"):
        examine(built.data, "elsewhere.icc", 3.0, bond)


def test_a_profile_of_a_sister_print_is_doubted_with_its_distance(
    built: ProfileResult, fresh: ReadingSet
) -> None:
    darker = replace(fresh, spectra=fresh.spectra**1.09)
    result = examine(built.data, "elsewhere.icc", 3.0, darker)
    assert 1.2 < result.report["held_out"]["mean"] < 4.0
    assert any("from the readings of this mode's chart" in d for d in result.doubts)


def test_more_ink_than_the_mode_holds_and_no_readings_are_doubts(built: ProfileResult) -> None:
    result = examine(built.data, "elsewhere.icc", 2.2)
    assert any("220 % is this mode's limit" in d for d in result.doubts)
    assert any("no readings" in d for d in result.doubts)


def test_ink_on_bare_paper_is_a_doubt(built: ProfileResult, fresh: ReadingSet) -> None:
    def tinted(grid: np.ndarray) -> np.ndarray:
        return np.maximum(grid, 0.16)  # no ink is stored a little above nothing

    result = examine(rewritten(built.data, "B2A1", tinted), "tinted.icc", 3.0, fresh)
    assert any("where bare paper is asked for" in d for d in result.doubts)


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda g: np.full_like(g, 0.5), "from paper in Lab|no paper"),
        (lambda g: g[::-1], "ramp of|from paper|describes another|all inks"),
    ],
)
def test_damaged_tables_are_refused_with_the_ink(
    built: ProfileResult, fresh: ReadingSet, spoil, words: str
) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(BadInput, match=words) as result:
        examine(rewritten(built.data, "A2B1", spoil), "damaged.icc", 3.0, fresh)
    assert result.value.source == "damaged.icc"


def with_header(data: bytes, at: int, text: bytes) -> bytes:
    return data[:at] + text + data[at + len(text) :]


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda d: with_header(d, 12, b"mntr"), "class 'mntr'"),
        (lambda d: with_header(d, 16, b"RGB "), "of RGB"),
        (lambda d: with_header(d, 20, b"XYZ "), "through XYZ"),
        (lambda d: d[: len(d) // 2], "cut off"),
        (lambda d: b"not a profile at all" * 20, "not an ICC profile"),
        (lambda d: d.replace(b"B2A0", b"B2Ax", 1), "no B2A0 table"),
    ],
)
def test_files_that_are_no_cmyk_printer_profile_are_refused(built: ProfileResult, spoil, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        examine(spoil(built.data), "other.icc", 3.0)
