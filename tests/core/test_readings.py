"""Double reading, matching to a chart, and the row that was just read."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import spectra_to_lab
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.misreads import Surroundings, judge_row
from greyanchor.core.measurement.readings import ReadingSet, match_chart
from greyanchor.core.measurement.repeatability import average, compare, from_pass, is_copy
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.instrument import StripReader
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK


@pytest.fixture(scope="module")
def passes() -> tuple[ReadingSet, ReadingSet]:
    chart, _ = lay_out(patches.profile_patches(400, 3.0), CMYK, shuffle_seed=3)
    press = press_by_name("petrel-44")
    return print_and_read(chart, press, 1, 1), print_and_read(chart, press, 1, 2)


def spoil(readings: ReadingSet, mask: np.ndarray, factor: float) -> ReadingSet:
    spectra = readings.spectra.copy()
    spectra[mask] *= factor
    return replace(readings, spectra=spectra)


def test_two_good_passes_agree(passes: tuple[ReadingSet, ReadingSet]) -> None:
    found = compare(*passes)
    assert found.acceptable() and 0.05 < found.mean < 0.5
    assert found.suspect_rows == ()


def test_a_file_sent_twice_is_reported_from_a_second_reading(passes: tuple[ReadingSet, ReadingSet]) -> None:
    first, second = passes
    copy = cgats.loads(cgats.dumps(first).encode(), "copy.txt")
    assert is_copy(first, copy) and not is_copy(first, second)
    one_off = copy.spectra.copy()
    one_off[7, 3] += 0.0001
    assert not is_copy(first, replace(copy, spectra=one_off)), (
        "one figure that differs is a reading of its own"
    )
    assert is_copy(
        replace(copy, spectra=None, measured_lab=copy.lab()),
        replace(copy, spectra=None, measured_lab=copy.lab()),
    )
    assert not is_copy(first, replace(copy, spectra=None, measured_lab=copy.lab())), (
        "nothing to hold against each other"
    )


def test_one_scratched_patch_is_an_outlier_and_no_row_is_suspect(
    passes: tuple[ReadingSet, ReadingSet],
) -> None:
    first, second = passes
    bad = np.array([i == 100 for i in range(len(first))])
    found = compare(first, spoil(second, bad, 0.6))
    assert first.ids[100] in found.outliers and found.suspect_rows == () and not found.acceptable()


def test_a_misread_row_is_reported_from_single_patches(passes: tuple[ReadingSet, ReadingSet]) -> None:
    first, second = passes
    row = second.rows == 5
    spectra = second.spectra.copy()
    spectra[row] = spectra[row][::-1]
    found = compare(first, replace(second, spectra=spectra))
    assert found.suspect_rows == (5,)
    assert len(found.outliers) >= 0.5 * row.sum()


def test_the_average_is_of_spectra_and_lowers_noise(passes: tuple[ReadingSet, ReadingSet]) -> None:
    mean = average(passes)
    np.testing.assert_allclose(mean.spectra, (passes[0].spectra + passes[1].spectra) / 2)


def test_conditions_are_never_mixed(passes: tuple[ReadingSet, ReadingSet]) -> None:
    other = replace(passes[1], condition="M0")
    for act in (lambda: compare(passes[0], other), lambda: average([passes[0], other])):
        with pytest.raises(BadInput, match="M0|M1"):
            act()


def test_readings_are_put_into_the_order_of_the_chart(passes: tuple[ReadingSet, ReadingSet]) -> None:
    chart = replace(passes[0], spectra=None)
    shuffled = passes[0].select(np.random.default_rng(0).permutation(len(chart)))
    assert match_chart(chart, shuffled).ids == chart.ids


def test_what_is_not_of_the_chart_is_refused_by_name(passes: tuple[ReadingSet, ReadingSet]) -> None:
    readings = passes[0]
    chart = replace(readings, spectra=None)
    with pytest.raises(BadInput, match="399 patches read, 400 on the chart; first missing patch: 1-1"):
        match_chart(chart, readings.select(np.arange(1, 400)))
    moved = replace(readings, device=np.clip(readings.device + 0.01, 0, 1))
    with pytest.raises(BadInput, match="other device values"):
        match_chart(chart, moved)
    with pytest.raises(BadInput, match="no measured values"):
        match_chart(chart, chart)
    with pytest.raises(BadInput, match=r"C\+M\+Y, the chart is of C\+M\+Y\+K"):
        match_chart(chart, replace(readings, channels=tuple("CMY"), device=readings.device[:, :3]))


@pytest.mark.parametrize("field", ["device", "spectra"])
def test_a_reading_set_with_a_hole_cannot_be_made(passes: tuple[ReadingSet, ReadingSet], field: str) -> None:
    values = getattr(passes[0], field).copy()
    values[7, 0] = np.nan
    with pytest.raises(BadInput, match=f"patch {passes[0].ids[7]}"):
        replace(passes[0], **{field: values})


def test_a_content_hash_changes_with_content_and_only_then(passes: tuple[ReadingSet, ReadingSet]) -> None:
    again = replace(passes[0], meta={"DESCRIPTOR": "other words"})
    assert again.content_hash() == passes[0].content_hash() != passes[1].content_hash()


@pytest.mark.parametrize(
    ("slip", "words"),
    [
        (lambda s: s[::-1], "backwards"),
        (lambda s: np.vstack([s[1:], s[-1:]]), "missed"),
        (lambda s: s[:-1], "patches seen"),
    ],
)
def test_a_slip_of_the_hand_is_named(passes: tuple[ReadingSet, ReadingSet], slip: object, words: str) -> None:
    row = passes[0].rows == 4
    expected = from_pass(passes[1].lab()[row], 2)
    verdict = judge_row(expected, spectra_to_lab(slip(passes[0].spectra[row])))
    assert not verdict.ok and words in verdict.reason


def test_the_wrong_row_is_recognised_and_a_right_one_is_kept(passes: tuple[ReadingSet, ReadingSet]) -> None:
    first, second = passes
    expected = from_pass(second.lab(), 2)
    around = Surroundings.of(second, expected)
    mine = expected.select(second.rows == 4)
    assert judge_row(mine, first.lab()[first.rows == 4], around, 4).ok
    verdict = judge_row(mine, first.lab()[first.rows == 5], around, 4)
    assert not verdict.ok and "row 5" in verdict.reason and verdict.kind == "other row"


def test_a_shifted_ramp_is_caught_against_an_earlier_reading() -> None:
    chart, _ = lay_out(patches.ink_limit_ramps(), CMYK)
    press = press_by_name("petrel-44")
    first, second = (print_and_read(chart, press, 1, reading) for reading in (1, 2))
    for row in range(1, 5):
        expected, seen = from_pass(first.lab()[first.rows == row], 1), second.lab()[second.rows == row]
        assert judge_row(expected, seen).ok
        assert not judge_row(expected, np.vstack([seen[1:], seen[-1:]])).ok, row


def test_the_instrument_refuses_without_a_valid_white_calibration() -> None:
    reader, spectra = StripReader(), np.full((10, 36), 0.5)
    with pytest.raises(NotReadable, match="white tile"):
        reader.read_row(spectra, (1, 1), None)
    with pytest.raises(NotReadable, match="expired"):
        reader.read_row(spectra, (1, 1), 31.0)
    assert reader.read_row(spectra, (1, 1), 5.0).shape[1] == 36


def test_misreads_happen_about_as_often_as_reported_and_seeds_repeat_them() -> None:
    reader, spectra = StripReader(misread_rate=0.2), np.linspace(0.1, 0.9, 12)[:, None] * np.ones((12, 36))
    slips = 0
    for i in range(200):
        seen = reader.read_row(spectra, (i, 1, 1), 1.0)
        slips += len(seen) != 12 or not np.allclose(seen, spectra, rtol=0.1)
    assert 20 <= slips <= 65
    np.testing.assert_array_equal(
        reader.read_row(spectra, (4, 2), 1.0), reader.read_row(spectra, (4, 2), 1.0)
    )
