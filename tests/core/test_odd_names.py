"""Inks with odd names, in another order than expected, through every kind of file and back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest

from greyanchor.core.charts.layout import lay_out
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, csv_table, cxf_writing, icc, readings_file
from greyanchor.core.measurement.readings import ReadingSet, match_chart

ODD = ("C", "M", "Y", "K", "Warm Red 2", "Grün", "Blue/Violet", "X-1")


def readings(channels: tuple[str, ...] = ODD) -> ReadingSet:
    random = np.random.default_rng(1)
    chart, _ = lay_out(random.random((20, len(channels))).round(3), channels)
    return replace(chart, spectra=random.random((20, 36)))


@pytest.mark.parametrize(
    ("dump", "name"), [(cgats.dumps, "a.txt"), (cxf_writing.dumps, "a.cxf"), (csv_table.dumps, "a.csv")]
)
def test_names_survive_files_of_readings(dump: Callable[[ReadingSet], str | bytes], name: str) -> None:
    written = dump(readings())
    back = readings_file.loads(written.encode() if isinstance(written, str) else written, name)
    assert back.channels == ODD
    assert np.abs(back.values() - readings().values()).max() < 1e-5


def test_names_survive_profiles() -> None:
    tags = {"clrt": icc.colorant_tag(ODD, np.zeros((8, 3)))}
    assert icc.loads(icc.build(tags, ODD, 4, datetime(2026, 9, 1, tzinfo=UTC))).inks == ODD


@pytest.mark.parametrize("by", ["id", "device"])
def test_inks_in_another_order_are_matched_by_name(by: str) -> None:
    wanted = readings()
    order = [4, 0, 1, 2, 3, 7, 6, 5]
    assert wanted.device is not None
    other = replace(wanted, channels=tuple(ODD[i] for i in order), device=wanted.device[:, order])
    read = readings_file.loads(cgats.dumps(other).encode(), "other.txt")
    assert read.channels[0] == "Warm Red 2"
    found = match_chart(wanted, read, by)
    assert found.channels == ODD and np.allclose(found.values(), wanted.values(), atol=1e-5)
    assert found.spectra is not None and np.allclose(found.spectra, wanted.spectra, atol=1e-4)


def test_names_that_do_not_fit_the_columns_are_refused() -> None:
    text = cgats.dumps(readings()).replace("Warm Red 2, ", "")
    with pytest.raises(BadInput, match="CHANNELS names 7 inks"):
        cgats.loads(text.encode())
