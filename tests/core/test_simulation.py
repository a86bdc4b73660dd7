"""The stand-in press behaves like a press: settings matter, ink stalls, sheets differ, colour drifts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from greyanchor.core.colour.colorimetry import chroma, delta_e_2000, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import MEDIA, press_by_name, press_for
from greyanchor.core.simulation.instrument import StripReader


def environment(**changes: object) -> PrintEnvironment:
    base = PrintEnvironment("Petrel 44", "Tarn pigment", "Harbour Proof Semimatt 235", heat=36.0)
    return replace(base, **changes)


def ramp(channel: int, steps: int = 41) -> np.ndarray:
    device = np.zeros((steps, 4))
    device[:, channel] = np.linspace(0, 1, steps)
    return device


@pytest.mark.parametrize("media", sorted(MEDIA))
def test_ink_stalls_before_raw_full_on_every_media(media: str) -> None:
    press = press_for(environment(media=media, heat=MEDIA[media].best_heat))
    for channel in range(3):
        c = chroma(spectra_to_lab(press.spectra(ramp(channel))))
        assert c.argmax() > 20, "colour must grow well past the middle"
        assert c[-1] - c[-9] < 0.05 * c.max(), "the last fifth of ink must bring next to nothing"


def test_too_much_ink_hooks_and_hazes() -> None:
    press = press_by_name("petrel-44/thrift-bond-90")
    black = spectra_to_lab(press.spectra(ramp(3)))[:, 0]
    assert black[-1] > black.min() + 0.3
    flood = spectra_to_lab(press.spectra(np.array([[0.7, 0.7, 0.7, 0.7], [1.0, 1.0, 1.0, 1.0]])))
    assert flood[1, 0] > flood[0, 0] + 3


def test_fewer_passes_gain_more_and_are_grainier() -> None:
    slow, fast = press_for(environment(passes=16)), press_for(environment(passes=4))
    mid = np.array([[0.4, 0, 0, 0]])
    assert spectra_to_lab(fast.spectra(mid))[0, 0] < spectra_to_lab(slow.spectra(mid))[0, 0] - 0.4
    patch = np.tile([[0.5, 0.4, 0.4, 0.1]], (300, 1))
    spread = [np.std(spectra_to_lab(p.spectra(patch, seed=1))[:, 0]) for p in (slow, fast)]
    assert spread[1] > 1.5 * spread[0]


@pytest.mark.parametrize("heat", [18.0, 60.0])
def test_too_little_or_too_much_heat_harms(heat: float) -> None:
    good, bad = press_for(environment()), press_for(environment(heat=heat))
    assert bad.capacity < good.capacity and (bad.grain > good.grain or bad.spread > good.spread)


def test_brightener_shows_under_m1_and_not_under_m2() -> None:
    press = press_by_name("petrel-44/thrift-bond-90")
    paper = np.zeros((1, 4))
    m1, m0, m2 = (spectra_to_lab(press.spectra(paper, condition=c))[0, 2] for c in ("M1", "M0", "M2"))
    assert m1 < m0 < m2 - 2


def test_overprints_trap_unevenly() -> None:
    press = press_by_name("petrel-44")
    spectra = press.spectra(np.array([[0, 0, 0, 0], [0.7, 0, 0, 0], [0, 0.7, 0, 0], [0.7, 0.7, 0, 0]]))
    density = -np.log10(spectra)
    additive = density[1] + density[2] - density[0]
    assert np.abs(density[3] - additive).max() > 0.05


def test_sheets_differ_a_little_and_drift_differs_more() -> None:
    press = press_by_name("petrel-44")
    device = np.random.default_rng(2).random((200, 4)) * 0.7
    truth = spectra_to_lab(press.spectra(device))
    one, two = (spectra_to_lab(press.spectra(device, press.sheet(s))) for s in (1, 2))
    old = spectra_to_lab(press.spectra(device, press.sheet(1, age_days=180)))
    assert 0.05 < delta_e_2000(one, two).mean() < 0.6
    assert delta_e_2000(old, truth).mean() > 2 * delta_e_2000(one, truth).mean()


def test_the_instrument_is_as_noisy_as_it_says() -> None:
    spectra = press_by_name("petrel-44").spectra(np.random.default_rng(0).random((800, 4)))
    noise = delta_e_2000(spectra_to_lab(StripReader().measure(spectra, (1,))), spectra_to_lab(spectra)).mean()
    assert 0.10 < noise < 0.22


def test_the_same_seed_prints_the_same_sheet() -> None:
    press, device = press_by_name("gannet-64"), np.random.default_rng(1).random((20, 4))
    np.testing.assert_array_equal(
        press.spectra(device, press.sheet(3), seed=4), press.spectra(device, press.sheet(3), seed=4)
    )


def test_unknown_stand_ins_are_refused_with_what_there_is() -> None:
    with pytest.raises(BadInput, match="petrel-44"):
        press_by_name("albatross")
    with pytest.raises(BadInput, match="thrift-bond-90"):
        press_by_name("petrel-44/parchment")


@pytest.mark.parametrize(
    "change", [{"passes": 0}, {"heat": 400.0}, {"vacuum": -1.0}, {"direction": "up"}, {"halftone": "none"}]
)
def test_an_environment_that_cannot_be_is_refused(change: dict) -> None:
    with pytest.raises(BadInput):
        environment(**change)


def test_environments_have_a_fingerprint() -> None:
    assert (
        environment().content_hash() == environment().content_hash() != environment(passes=6).content_hash()
    )
