"""Faults fitted together: planted amounts are found again, and each keeps its own share."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.charts.patches import control_strip
from greyanchor.core.verification import together
from greyanchor.core.verification.causes import Shapes, shapes_of
from greyanchor.core.verification.generic_aims import aim_lab


@pytest.fixture(scope="module")
def shapes() -> Shapes:
    inks = control_strip()
    return shapes_of(inks, aim_lab(inks))


def _fault(shapes: Shapes, key: str, channel: str = "") -> together.Fault:
    return next(f for f in together.faults_of(shapes) if (f.key, f.channel) == (key, channel))


def test_planted_amounts_of_two_faults_are_found_again(shapes: Shapes) -> None:
    cyan, white = _fault(shapes, "channel", "C"), _fault(shapes, "white")
    planted = shapes.inked(np.array([9.0, 3.0, 0.0]) @ cyan.mixing) + 4.0 * shapes.white
    found = together.fit(planted, shapes, (cyan, white))
    np.testing.assert_allclose(found.amounts, [9.0, 3.0, 0.0, 4.0], atol=0.05)
    assert np.abs(found.left).max() < 0.02
    np.testing.assert_allclose(found.changes[1], 4.0 * shapes.white, atol=0.05)


def test_a_patch_that_nothing_explains_does_not_decide(shapes: Shapes) -> None:
    black, paper = _fault(shapes, "channel", "K"), _fault(shapes, "paper")
    planted = (
        shapes.inked(np.array([-8.0, 0.0, 0.0]) @ black.mixing) + np.array([2.0, 1.0, -3.0]) @ paper.light
    )
    planted[30:33] += [25.0, -10.0, 12.0]
    found = together.fit(planted, shapes, (black, paper))
    np.testing.assert_allclose(found.amounts[0], -8.0, atol=0.8)
    np.testing.assert_allclose(found.amounts[3:], [2.0, 1.0, -3.0], atol=0.4)


@pytest.mark.parametrize(
    ("first", "second"),
    [
        (("channel", "M"), ("condition", "")),
        (("dot gain", ""), ("paper", "")),
        (("channel", "Y"), ("channel", "K")),
    ],
)
def test_of_all_pairs_the_planted_one_leaves_least(
    shapes: Shapes, first: tuple[str, str], second: tuple[str, str]
) -> None:
    planted = np.zeros(3 * len(shapes.inks))
    for key, channel in (first, second):
        fault = _fault(shapes, key, channel)
        if len(fault.mixing):
            planted = planted + shapes.inked(np.array([8.0, -3.0, 1.0]) @ fault.mixing)
        if fault.light is not None:
            planted = planted + np.linspace(3.0, -2.0, len(fault.light)) @ fault.light
    best = min(together.best_pairs(planted, shapes), key=lambda f: float(f.left @ f.left))
    assert {(f.key, f.channel) for f in best.faults} == {first, second}
