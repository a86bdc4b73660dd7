"""CGATS: strict on the way out, liberal on the way in, and clear about what it cannot take."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet

HEAD = "CGATS.17\n"


def table(fields: str, *rows: str, sets: int | None = None, head: str = HEAD) -> str:
    count = f"NUMBER_OF_SETS {len(rows) if sets is None else sets}\n"
    return (
        f"{head}BEGIN_DATA_FORMAT\n{fields}\nEND_DATA_FORMAT\n{count}BEGIN_DATA\n"
        + "\n".join(rows)
        + "\nEND_DATA\n"
    )


def spectral(n: int = 4) -> ReadingSet:
    random = np.random.default_rng(3)
    return ReadingSet(
        ids=tuple(f"1-{i + 1}" for i in range(n)),
        channels=tuple("CMYK"),
        device=np.round(random.random((n, 4)), 4),
        spectra=np.round(random.random((n, 36)), 6),
        condition="M1",
        rows=np.ones(n, dtype=np.int64),
        columns=np.arange(1, n + 1),
        sheets=np.ones(n, dtype=np.int64),
        meta={"DESCRIPTOR": "a chart", "PAGE": "210x297"},
    )


def test_spectral_readings_survive_a_round_trip() -> None:
    before = spectral()
    after = cgats.loads(cgats.dumps(before))
    assert after.ids == before.ids and after.channels == before.channels and after.condition == "M1"
    np.testing.assert_allclose(after.device, before.device, atol=1e-6)
    np.testing.assert_allclose(after.spectra, before.spectra, atol=1e-6)
    np.testing.assert_array_equal(after.columns, before.columns)
    assert after.meta["DESCRIPTOR"] == "a chart"


def test_writing_what_was_read_is_stable() -> None:
    once = cgats.dumps(spectral())
    assert cgats.dumps(cgats.loads(once)) == once


@given(st.integers(1, 30), st.sampled_from(["XYZ", "LAB"]))
@settings(max_examples=25, deadline=None)
def test_xyz_and_lab_survive_a_round_trip(n: int, kind: str) -> None:
    random = np.random.default_rng(n)
    values = (
        random.uniform([10, -60, -60], [95, 60, 60], (n, 3))
        if kind == "LAB"
        else random.uniform(1, 95, (n, 3))
    )
    given_set = ReadingSet(
        ids=tuple(str(i) for i in range(n)),
        channels=tuple("CMYK"),
        device=random.random((n, 4)),
        **{"measured_lab" if kind == "LAB" else "measured_xyz": values},
    )
    after = cgats.loads(cgats.dumps(given_set))
    np.testing.assert_allclose(after.lab(), given_set.lab(), atol=2e-3)


def test_decimal_commas_tabs_crlf_quotes_and_a_byte_order_mark_are_read() -> None:
    text = table(
        "SAMPLE_ID\tSAMPLE_NAME\tLAB_L\tLAB_A\tLAB_B",
        '1\t"white one"\t95,2\t0,8\t-1,5',
        '2\t"grey"\t50,0\t0\t0',
    )
    data = ("\ufeff" + text.replace("\n", "\r\n")).encode("utf-8")
    read = cgats.loads(data)
    np.testing.assert_allclose(read.lab()[0], [95.2, 0.8, -1.5])


def test_latin_1_and_unknown_keywords_are_read() -> None:
    text = table("LAB_L LAB_A LAB_B", "50 0 0", head=HEAD + 'ORIGINATOR "Blaugrün"\nSOMETHING_NEW "x"\n')
    read = cgats.loads(text.encode("latin-1"))
    assert read.ids == ("1",) and read.meta["SOMETHING_NEW"] == "x"


@pytest.mark.parametrize(
    "pattern",
    ["SPECTRAL_NM{}", "nm{}", "SPECTRAL_{}", "R_{}", "SPEC_{}", "{}NM".replace("{}", "SPECTRAL_{}")],
)
def test_spectra_are_recognised_by_many_names_and_in_percent(pattern: str) -> None:
    fields = "SAMPLE_ID " + " ".join(pattern.format(nm) for nm in range(380, 731, 10))
    read = cgats.loads(table(fields, "1 " + " ".join(["80.0"] * 36)))
    np.testing.assert_allclose(read.spectra, 0.8)


def test_five_nanometre_spectra_are_resampled() -> None:
    fields = " ".join(f"nm{nm}" for nm in range(380, 731, 5))
    assert cgats.loads(table(fields, " ".join(["0.5"] * 71))).spectra.shape == (1, 36)


def test_many_channels_keep_their_names() -> None:
    device = np.array([[0, 0.5, 1, 0, 0.25]])
    given_set = ReadingSet(ids=("1",), channels=tuple("CMYKO"), device=device)
    after = cgats.loads(cgats.dumps(given_set))
    assert after.channels == tuple("CMYKO")
    np.testing.assert_allclose(after.device, device)


BAD = [
    (b"", None, "empty"),
    (b"   \n ", None, "empty"),
    (b"\x89PNG\r\n\x1a\n\0\0\0", None, "binary"),
    (b"hello there", None, "not CGATS"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "2 50 0"), 8, "3 values"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "2 50 x 0"), 8, "not a number"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "2 nan 0 0"), 8, "finite"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "2 inf 0 0"), 8, "finite"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "2 500 0 0"), 8, "outside"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", "1 51 0 0"), 8, "already given"),
    (table("SAMPLE_ID LAB_L LAB_A LAB_B", "1 50 0 0", sets=3), 7, "NUMBER_OF_SETS"),
    (table("CMYK_C CMYK_M CMYK_Y CMYK_K LAB_L LAB_A LAB_B", "0 0 0 120 50 0 0"), 7, "device value"),
    (table("SAMPLE_ID COMMENT", "1 x"), 2, "no field"),
    (table("LAB_L LAB_A LAB_B", "50 0 0").rsplit("END_DATA", 1)[0], 7, "END_DATA is missing"),
    (HEAD + "BEGIN_DATA\n1\nEND_DATA\n", 2, "before any"),
    (table("LAB_L LAB_L LAB_B", "50 0 0"), 2, "more than once"),
]


@pytest.mark.parametrize(("data", "line", "words"), BAD)
def test_what_cannot_be_understood_is_refused_with_file_line_and_reason(
    data: bytes | str, line: int | None, words: str
) -> None:
    with pytest.raises(BadInput, match=words) as caught:
        cgats.loads(data, "mine.txt")
    assert caught.value.source == "mine.txt"
    if line is not None:
        assert caught.value.line == line


@given(st.binary(max_size=400))
@settings(max_examples=150, deadline=None)
def test_no_bytes_make_it_fail_in_any_other_way(data: bytes) -> None:
    with contextlib.suppress(BadInput):
        cgats.loads(data)


@given(st.integers(0, 2000))
@settings(max_examples=80, deadline=None)
def test_a_truncated_file_is_refused_or_whole(cut: int) -> None:
    whole = cgats.dumps(spectral())
    end = whole.rindex("END_DATA") + len("END_DATA")
    text = whole[: min(cut, end - 1)]
    with pytest.raises(BadInput):
        cgats.loads(text)
