"""The residual surface: what it learns from few patches, and that every way to ask it answers alike."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.characterization import residual
from greyanchor.core.characterization.residual import SmoothResidual, fit, kernel


def _of_single_inks_and_pairs(at: np.ndarray) -> np.ndarray:
    """What printers leave: bends of single inks and a little of pairs."""
    first = np.sin(3.0 * at[:, 0]) + at[:, 1] ** 2 - 0.7 * np.cos(4.0 * at[:, 2]) + 0.5 * at[:, 3]
    pair = 0.6 * at[:, 0] * at[:, 3] - 0.4 * at[:, 1] * at[:, 2] ** 2
    return np.column_stack([first, pair, first - pair])


@pytest.fixture(scope="module")
def learned() -> SmoothResidual:
    random = np.random.default_rng(1)
    places = random.random((160, 4))
    return fit(places, _of_single_inks_and_pairs(places) + random.normal(0.0, 0.02, (160, 3)))


def test_a_surface_of_single_inks_and_pairs_is_learned_below_the_noise(learned: SmoothResidual) -> None:
    at = np.random.default_rng(2).random((2000, 4))
    error = learned.predict(at) - _of_single_inks_and_pairs(at)
    assert np.sqrt((error**2).mean()) < 0.02, "noise of single readings is 0.02"


def test_what_leave_one_out_claims_is_what_unseen_patches_show(learned: SmoothResidual) -> None:
    random = np.random.default_rng(3)
    at = random.random((2000, 4))
    seen = _of_single_inks_and_pairs(at) + random.normal(0.0, 0.02, (2000, 3))
    claimed, true = (np.sqrt((e**2).mean()) for e in (learned.left_out, learned.predict(at) - seen))
    assert 0.8 < claimed / true < 1.5


def test_grid_table_and_kernel_answer_alike(learned: SmoothResidual) -> None:
    axes = [np.linspace(0.0, 1.0, n) for n in (3, 4, 2, 3)]
    at = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 4)
    plain = kernel(at, learned.places, learned.length) @ learned.weights
    np.testing.assert_allclose(learned.on_grid(axes).reshape(-1, 3), plain, atol=1e-6)
    np.testing.assert_allclose(learned.predict(at), plain, atol=0.01)


def test_many_and_few_are_answered_alike(learned: SmoothResidual) -> None:
    at = np.random.default_rng(4).random((3000, 4))
    np.testing.assert_allclose(learned.predict(at)[:5], learned.predict(at[:5]), atol=1e-9)


@pytest.mark.parametrize("channels", [1, 2, 3, 5, 7])
def test_any_number_of_channels_has_a_surface(channels: int) -> None:
    random = np.random.default_rng(channels)
    places = random.random((220, channels))
    values = np.column_stack([places.sum(axis=1), np.cos(2.0 * places[:, 0])])
    found = fit(places, values)
    at = random.random((300, channels))
    np.testing.assert_allclose(
        found.predict(at), np.column_stack([at.sum(axis=1), np.cos(2.0 * at[:, 0])]), atol=0.1
    )
    axes = [np.array([0.2, 0.9])] * channels
    corner = np.full((1, channels), 0.9)
    np.testing.assert_allclose(found.on_grid(axes).reshape(-1, 2)[-1:], found.predict(corner), atol=0.01)


def test_noise_that_is_known_stiffens_a_fit_that_claims_less() -> None:
    random = np.random.default_rng(6)
    places = random.random((120, 2))
    noisy = 0.3 * random.standard_normal((120, 1))
    loose, stiff = fit(places, noisy), fit(places, noisy, noise=0.3)
    assert stiff.noise >= loose.noise and np.abs(stiff.predict(places)).mean() < 0.15


def test_the_kernel_is_one_at_home_falls_with_distance_and_never_below_nothing() -> None:
    at = np.linspace(0.0, 1.0, 50)[:, None]
    row = kernel(at[:1], at, 0.5)[0]
    assert row[0] == pytest.approx(1.0) and (np.diff(row) < 0).all() and row.min() > 0.0
    assert pytest.approx(residual.kernel(at, at, 0.5)) == residual.kernel(at, at, 0.5).T
