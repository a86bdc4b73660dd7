"""Files that nobody meant well: whatever they hold, they are read or refused with a reason, never a crash."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, csv_table, cxf, cxf_writing, readings_file
from greyanchor.core.inspection import inspect_bytes
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK

_chart, _ = lay_out(patches.design("ink-limit", count=24), CMYK)
_readings = print_and_read(_chart, press_by_name("petrel-44"), 1)
GOOD = {
    "CGATS": cgats.dumps(_readings).encode(),
    "CxF3": cxf_writing.dumps(_readings).encode(),
    "CSV": csv_table.dumps(_readings).encode(),
}
QUICK = settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow])


def read_or_refused(data: bytes) -> ReadingSet | None:
    """What came of a file; anything but a refusal with a reason fails the test."""
    try:
        return readings_file.loads(data, "hostile")
    except BadInput as error:
        assert error.source == "hostile" and len(error.reason) > 8
        return None


@pytest.mark.parametrize("kind", GOOD)
@QUICK
@given(data=st.data())
def test_a_file_that_was_cut_off_anywhere_is_refused_or_whole(kind: str, data: st.DataObject) -> None:
    text = GOOD[kind]
    cut = data.draw(st.integers(0, len(text) - 1))
    found = read_or_refused(text[:cut])
    if found is not None and kind != "CSV":  # a CSV has no end mark; CGATS and CxF3 have one
        assert len(found) == len(_readings)


@pytest.mark.parametrize("kind", GOOD)
@QUICK
@given(data=st.data())
def test_bytes_that_flipped_are_refused_or_give_finite_colour(kind: str, data: st.DataObject) -> None:
    text = bytearray(GOOD[kind])
    for _ in range(data.draw(st.integers(1, 6))):
        text[data.draw(st.integers(0, len(text) - 1))] = data.draw(st.integers(0, 255))
    found = read_or_refused(bytes(text))
    if found is not None and found.is_measured:
        assert np.isfinite(found.lab()).all()
    if found is not None and found.device is not None:
        assert found.device.min() >= 0 and found.device.max() <= 1


@pytest.mark.parametrize("kind", GOOD)
@QUICK
@given(data=st.data())
def test_lines_that_were_moved_doubled_or_lost_are_noticed(kind: str, data: st.DataObject) -> None:
    lines = GOOD[kind].split(b"\n")
    at = data.draw(st.integers(0, len(lines) - 2))
    act = data.draw(st.sampled_from(["double", "lose", "swap"]))
    if act == "double":
        lines.insert(at, lines[at])
    elif act == "lose":
        del lines[at]
    else:
        lines[at], lines[at + 1] = lines[at + 1], lines[at]
    found = read_or_refused(b"\n".join(lines))
    if found is not None:
        assert len(set(found.ids)) == len(found)


@QUICK
@given(st.binary(max_size=3000))
def test_any_bytes_are_refused_or_read(data: bytes) -> None:
    read_or_refused(data)


@QUICK
@given(st.text(max_size=2000))
def test_any_text_is_refused_or_read(text: str) -> None:
    read_or_refused(text.encode())


@QUICK
@given(
    st.recursive(
        st.none() | st.floats() | st.text(max_size=6),
        lambda x: (
            st.lists(x, max_size=4)
            | st.dictionaries(st.sampled_from(["curves", "C", "input", "output"]), x, max_size=4)
        ),
        max_leaves=12,
    )
)
def test_any_json_is_refused_or_a_curve(value: object) -> None:
    try:
        made = CurveSet.from_json(json.dumps(value), "hostile.json")
    except BadInput as error:
        assert error.source == "hostile.json"
    else:
        assert (np.diff(made.outputs, axis=1) >= -1e-12).all()


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"\xff\xfeB\0E\0G\0I\0N\0_\0D\0", "no BEGIN_DATA_FORMAT|stops|not readable"),
        (b"\x89PNG\r\n\x1a\n" + bytes(400), "binary"),
        (b"PK\x03\x04" + bytes(100), "binary"),
        (b"<?xml version='1.0'?><svg/>", "not CxF"),
        (b"<CxF/>", "no Object"),
        (b"<?xml version='1.0' encoding='U-F-8'?><CxF/>", "cannot be decoded"),
        (b"{}", "not CGATS"),
        (b"id,L,a,b\n", "at least one line"),
        (b"# only\n# facts\n", "heading|not CGATS"),
    ],
)
def test_files_of_other_kinds_are_distinguished(data: bytes, words: str) -> None:
    with pytest.raises(BadInput, match=words):
        readings_file.loads(data, "other")


def test_inspecting_says_the_format_and_the_kind() -> None:
    for kind, data in GOOD.items():
        facts = inspect_bytes(data, "x")
        assert facts["format"] == kind and facts["kind"] == "readings" and facts["patches"] == len(_readings)
    straight = CurveSet.straight({"C": 0.75, "K": 0.9})
    for text in (straight.to_csv(), straight.to_json()):
        facts = inspect_bytes(text.encode(), "curves")
        assert facts["kind"] == "curves" and facts["limits"] == pytest.approx(
            {"C": 75.0, "K": 90.0}, abs=0.01
        )


def test_cxf_without_names_values_or_matching_channels_is_refused_by_patch() -> None:
    head = "<CxF><Resources><ObjectCollection>\n"
    lab = "<ColorValues><ColorCIELab><L>50</L><A>0</A><B>0</B></ColorCIELab></ColorValues>"

    def inks(**amounts: float) -> str:
        inner = "".join(f"<{n}>{v}</{n}>" for n, v in amounts.items())
        return f"<DeviceColorValues><ColorCMYK>{inner}</ColorCMYK></DeviceColorValues>"

    cases = {
        "other channels": inks(Cyan=1) + "</Object>\n<Object Name='2'>" + inks(Magenta=1),
        "outside 0..100": inks(Cyan=120),
        "has no B": "<ColorValues><ColorCIELab><L>50</L><A>0</A></ColorCIELab></ColorValues>",
        "has no spectrum": inks(Cyan=0)
        + "<ColorValues><ReflectanceSpectrum StartWL='380'>"
        + "0.5 " * 36
        + "</ReflectanceSpectrum></ColorValues></Object>\n<Object Name='2'>"
        + inks(Cyan=1),
        "outside 0..2": "<ColorValues><ReflectanceSpectrum StartWL='380'>"
        + "0.5 " * 35
        + "-0.4</ReflectanceSpectrum></ColorValues>",
        "not finite": "<ColorValues><ReflectanceSpectrum StartWL='380'>"
        + "0.5 " * 35
        + "inf</ReflectanceSpectrum></ColorValues>",
    }
    for words, body in cases.items():
        with pytest.raises(BadInput, match=words):
            cxf.loads(
                (head + f"<Object Name='1'>{body}</Object></ObjectCollection></Resources></CxF>").encode()
            )
    named = cxf.loads(
        (
            head
            + f"<Object Id='x7'>{lab}</Object><Object>{lab}</Object></ObjectCollection></Resources></CxF>"
        ).encode()
    )
    assert named.ids == ("x7", "2")


def test_a_wavelength_that_is_no_number_is_refused_with_its_line() -> None:
    chart = ReadingSet(("1",), spectra=np.full((1, 36), 0.5))
    text = cxf_writing.dumps(chart)
    with pytest.raises(BadInput, match=r"line \d+: StartWL: '/80'"):
        cxf.loads(text.replace('StartWL="380"', 'StartWL="/80"').encode(), "x.cxf")
