"""What a new media is likely to be given, from those like it."""

from __future__ import annotations

import numpy as np
import pytest

from greyanchor.core.printing.likely import INPUTS, Known, Traits, alike, likely, surprises

_CURVES = "channel,input,output\n" + "".join(
    f"{c},{i},{0.8 * i**1.1 / 100**0.1:.4f}\n" for c in "CM" for i in range(0, 101, 5)
)


def _known(name: str, kind: str, limit: float, weight: float = 200.0, total: float = 280.0) -> Known:
    return Known(name, Traits(kind, weight), {"C": limit, "M": limit - 4}, total, 8, _CURVES)


def test_media_of_the_class_weigh_most_and_spread_says_how_sure() -> None:
    known = [_known(f"a{i}", "coated", 78 + i) for i in range(4)] + [
        _known(f"b{i}", "canvas", 60) for i in range(4)
    ]
    found = likely(known, Traits("coated", 200.0), 8)
    assert found is not None
    assert 75.0 < found.limits["C"].value < 80.0 and found.limits["M"].value == pytest.approx(
        found.limits["C"].value - 4, abs=1e-6
    )
    assert found.weights["a0"] > 5 * found.weights["b0"] and sum(found.weights.values()) == pytest.approx(1.0)
    other = likely(known, Traits("mesh", 200.0), 8)
    assert other is not None and other.limits["C"].unsure > found.limits["C"].unsure
    assert found.total_ink is not None and found.total_ink.value == pytest.approx(280.0)
    shares = [100.0 * (i / 100.0) ** 1.1 for i in INPUTS]
    assert [g.value for g in found.curves["C"]] == pytest.approx(shares, abs=0.1)


def test_media_of_other_classes_leave_those_of_one_class_as_sure_as_they_were() -> None:
    own = [_known(f"a{i}", "coated", 78 + i) for i in range(6)]
    alone = likely(own, Traits("coated", 200.0), 8)
    beside = likely(own + [_known(f"b{i}", "canvas", 52 + i) for i in range(6)], Traits("coated", 200.0), 8)
    assert alone is not None and beside is not None
    assert (
        beside.limits["C"].unsure
        == pytest.approx(alone.limits["C"].unsure, abs=0.2)
        == pytest.approx(2.4, abs=0.4)
    )
    assert beside.limits["C"].value == pytest.approx(alone.limits["C"].value, abs=0.8)
    # of a class with one media, others say how far media differ; of one with none, where they lie
    one = likely([own[0], *(_known(f"b{i}", "canvas", 52 + i) for i in range(6))], Traits("coated", 200.0), 8)
    none = likely(own + [_known(f"b{i}", "canvas", 52 + i) for i in range(6)], Traits("mesh", 200.0), 8)
    assert one is not None and none is not None
    assert one.limits["C"].value > 70.0 and 2.5 < one.limits["C"].unsure < 8.0
    assert (
        none.limits["C"].value == pytest.approx((80.5 + 54.5) / 2, abs=0.5) and none.limits["C"].unsure > 15.0
    )


def test_a_curve_that_nobody_expected_is_named_with_its_place() -> None:
    found = likely([_known(f"a{i}", "coated", 78) for i in range(4)], Traits("coated", 200.0), 8)
    assert found is not None
    even = np.linspace(0.0, 1.0, 41)
    usual, other = 72.0 * even**1.1, 72.0 * even**1.5
    assert surprises({"C": usual.tolist(), "M": usual.tolist()}, found) == []
    (one,) = surprises({"C": usual.tolist(), "M": other.tolist(), "Y": other.tolist()}, found)
    assert one.ink == "M"
    assert one.off == pytest.approx(100.0 * ((one.at / 100.0) ** 1.5 - (one.at / 100.0) ** 1.1), abs=0.5)


def test_weights_and_brightener_count_and_one_mode_says_nothing() -> None:
    assert likely([_known("a", "coated", 80)], Traits("coated")) is None
    near, far = alike(Traits("x", 200), Traits("x", 220)), alike(Traits("x", 200), Traits("x", 90))
    assert near > 0.9 > far
    assert alike(Traits("x", 0, "none"), Traits("x", 0, "strong")) < 1.0


def test_the_stated_uncertainty_holds_for_media_drawn_alike() -> None:
    """Drawn from one distribution, two out of three new ones lie within what is said."""
    random = np.random.default_rng(4)
    inside = 0
    for _ in range(200):
        values = 75 + 4 * random.standard_normal(7)
        found = likely(
            [_known(f"m{i}", "coated", v) for i, v in enumerate(values[:6])], Traits("coated", 200.0), 8
        )
        assert found is not None
        inside += abs(values[6] - found.limits["C"].value) <= found.limits["C"].unsure
    assert 0.6 < inside / 200 < 0.9
