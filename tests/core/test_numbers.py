"""Numbers as people write them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("45.5", 45.5),
        ("45,5", 45.5),
        (" 7 ", 7.0),
        ("−3,25", -3.25),
        ("+1.000", 1.0),
        ("0,125", 0.125),
        ("12,", 12.0),
        (",5", 0.5),
        ("1250.5", 1250.5),
        ("1234,567", 1234.567),
    ],
)
def test_comma_and_point_are_the_same(text: str, value: float) -> None:
    assert parse_number(text) == value


@pytest.mark.parametrize("text", ["1,000", "12,500", "1,234.5", "1 000", "1.234,5", "1'000"])
def test_thousands_are_never_guessed(text: str) -> None:
    with pytest.raises(BadInput, match="two ways"):
        parse_number(text)


@pytest.mark.parametrize("text", ["", "four", "1e3", "nan", "inf", "4.5.6", "--1", "5 %", "0x10", "9" * 400])
def test_what_is_no_number_is_refused(text: str) -> None:
    with pytest.raises(BadInput, match="not a number|too large"):
        parse_number(text)


@given(st.decimals(allow_nan=False, allow_infinity=False, places=2, min_value=-9999, max_value=9999))
def test_any_number_of_two_decimals_comes_back_either_way(value: object) -> None:
    assert parse_number(str(value)) == parse_number(str(value).replace(".", ",")) == float(str(value))
