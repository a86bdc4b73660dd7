"""Colours under several lights, and paper with brightener under several conditions."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.characterization.metamerism import Coloured, part_company
from greyanchor.core.colour.brightener import brightener_of, excited, share_in, share_of
from greyanchor.core.colour.colorimetry import WAVELENGTHS, delta_e_2000, spectra_to_lab, weights
from greyanchor.core.colour.lighting import NM, LightSpectrum, daylight_from_300
from greyanchor.core.errors import BadInput


def metamer(spectrum: np.ndarray) -> np.ndarray:
    """Another spectrum that matches under D50 exactly."""
    bump = np.exp(-(((WAVELENGTHS - 580.0) / 20.0) ** 2))
    w = weights("D50")
    return spectrum + 0.2 * (bump - w @ np.linalg.solve(w.T @ w, w.T @ bump))


def test_metamers_match_under_one_light_and_part_under_others() -> None:
    plain = np.linspace(0.3, 0.6, 36)
    pair = Coloured(("grey",), plain[None]), Coloured(("grey",), metamer(plain)[None])
    found = part_company(*pair, ["D50", "A", "F11"])
    assert found.differences[0, 0] == pytest.approx(0.0, abs=1e-6)
    for k, light in ((1, "A"), (2, "F11")):
        apart = delta_e_2000(spectra_to_lab(plain, light), spectra_to_lab(metamer(plain), light))
        assert found.differences[0, k] == pytest.approx(float(apart))
        assert found.differences[0, k] > 1.0
    assert found.worst_light in (1, 2)


def test_a_difference_that_is_there_already_is_no_metamerism() -> None:
    plain = np.linspace(0.3, 0.6, 36)
    darker = Coloured(("a",), 0.8 * plain[None])
    found = part_company(Coloured(("a",), plain[None]), darker, ["D50", "A", "LED-B3"])
    assert found.differences.min() > 3.0
    assert found.matched.max() == pytest.approx(0.0, abs=1e-6)


def test_what_a_model_knows_better_counts_under_every_light() -> None:
    grey = Coloured(("a",), np.full((1, 36), 0.4), np.array([[60.0, 0.0, 0.0]]))
    for light in ("D50", "A", "D65"):
        assert grey.under(light)[0] == pytest.approx([60.0, 0.0, 0.0], abs=1e-6)


def test_what_cannot_be_compared_is_refused() -> None:
    one = Coloured(("a",), np.full((1, 36), 0.4))
    with pytest.raises(BadInput, match="no pairs"):
        part_company(one, Coloured((), np.zeros((0, 36))), ["D50"])
    with pytest.raises(BadInput, match="choose a light"):
        part_company(one, one, [])
    with pytest.raises(BadInput, match="spectrum each"):
        Coloured(("a", "b"), np.zeros((1, 36)))


def paper(emitted: float) -> np.ndarray:
    shine = np.exp(-(((WAVELENGTHS - 440.0) / 22.0) ** 2))
    return 0.86 + 0.0001 * (WAVELENGTHS - 550.0) + emitted * shine


def test_brightener_is_found_and_taken_out() -> None:
    bright = brightener_of(paper(0.15), "M1")
    assert bright is not None
    assert np.abs(bright.plain - paper(0.0))[WAVELENGTHS >= 410].max() < 0.012
    assert bright.under(1.0) == pytest.approx(spectra_to_lab(paper(0.15)), abs=0.01)
    assert bright.under(0.0)[2] > bright.under(0.5)[2] > bright.under(1.0)[2], "without it paper is yellower"
    none = brightener_of(paper(0.0), "M1")
    assert none is not None
    assert none.strength < 0.05
    assert brightener_of(paper(0.1), "M2") is None, "M2 shows none"


def test_shares_of_ultraviolet() -> None:
    day = daylight_from_300(5003.0)
    assert excited(day) == pytest.approx(1.0)
    assert share_of("M1") == 1.0
    assert share_of("M2") == 0.0
    assert 0.3 < share_of("M0") < 0.9
    assert share_in(LightSpectrum.of("x", NM, np.where(NM < 400, 0.5 * day, day))) == pytest.approx(
        0.65, abs=0.1
    )
    assert share_in(LightSpectrum.of("x", NM[80:], day[80:])) is None
    with pytest.raises(BadInput, match="no measurement condition"):
        share_of("M7")
