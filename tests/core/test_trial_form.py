"""The trial form, drawn by another program."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from greyanchor.core.artwork.inspection import examine
from greyanchor.core.artwork.trial_form import trial_form
from greyanchor.core.errors import BadInput


def drawn(data: bytes, folder: Path, dots: int = 20) -> np.ndarray:
    (folder / "form.pdf").write_bytes(data)
    subprocess.run(
        ["gs", "-q", "-dSAFER", "-sDEVICE=tiff32nc", "-dOverprint=/enable", f"-r{dots}", "-o",
         str(folder / "form.tif"), str(folder / "form.pdf")],
        check=True,
    )  # fmt: skip
    return np.asarray(Image.open(folder / "form.tif")).astype(float) / 255.0


def test_it_has_the_size_that_was_asked_for_and_heavy_ink_from_edge_to_edge(tmp_path: Path) -> None:
    seen = drawn(trial_form(1000.0, 1500.0), tmp_path)
    assert seen.shape[1] / 20 * 25.4 == pytest.approx(1000.0, abs=2.0)
    assert seen.shape[0] / 20 * 25.4 == pytest.approx(1500.0, abs=2.0)
    total = seen.sum(axis=2)
    heavy = (total > 2.5).mean(axis=1) > 0.97
    rows = np.flatnonzero(heavy) / 20 * 25.4
    assert rows.min() > 150.0 and rows.max() > 1200.0, "also after more than a metre"
    assert total[-int(20 * 20 / 25.4) :].max() < 4.0


@pytest.mark.parametrize("length", [200.0, 300.0, 640.0])
def test_a_short_one_ends_on_its_page(tmp_path: Path, length: float) -> None:
    seen = drawn(trial_form(300.0, length), tmp_path)
    assert seen[-2:].max() == 0.0, "nothing runs off the end"
    assert seen[: int(60 * 20 / 25.4)].sum() > 0


def test_its_text_is_small_enough_and_its_inks_are_process(tmp_path: Path) -> None:
    (tmp_path / "form.pdf").write_bytes(trial_form(600.0, 500.0))
    found = examine(tmp_path / "form.pdf").facts()
    page = found["pages"][0]
    assert (page["width_mm"], page["height_mm"]) == pytest.approx((600.0, 500.0), abs=0.1)
    assert not page["spots"] and not [f for f in found["findings"] if f["level"] == "stop"]
    words = subprocess.run(
        ["gs", "-q", "-dSAFER", "-sDEVICE=txtwrite", "-o", "-", str(tmp_path / "form.pdf")],
        capture_output=True, check=True,
    ).stdout.decode()  # fmt: skip
    assert "4 pt" in words and "12 pt" in words


@pytest.mark.parametrize(("width", "length"), [(100, 500), (4000, 500), (500, 100), (500, 30_000)])
def test_sizes_that_it_cannot_have_are_named(width: float, length: float) -> None:
    with pytest.raises(BadInput, match="cannot be made: 150 to 3200 mm wide, 200 to 20000 mm long can"):
        trial_form(width, length)
