"""Handling settings: who decides a value, what a machine can do, and what families begin with."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.families import FAMILIES, guess_family, starting_values
from greyanchor.core.printing.handling import (
    SETTINGS,
    Ability,
    Layer,
    abilities_of,
    checked,
    differences,
    resolve,
)
from greyanchor.core.search.merging import changes, merge

ABILITIES = abilities_of(
    {
        "vacuum": {"low": 10, "high": 90, "step": 5, "usual": 50},
        "heat_on": {"low": 20, "high": 60, "step": 1, "usual": 35},
        "feed": {"low": -1, "high": 1, "step": 0.01, "usual": 0},
    }
)


def test_every_physical_setting_of_the_trade_is_there_with_unit_range_and_purpose() -> None:
    wanted = {
        "vacuum",
        "heat_before",
        "heat_on",
        "heat_after",
        "pass_pause",
        "sheet_pause",
        "feed",
        "alignment",
        "head_height",
        "roller_pressure",
        "lamp_power",
        "overprints",
        "cleaning",
        "wiping",
        "margin_side",
        "margin_top",
        "margin_end",
    }
    assert wanted <= set(SETTINGS)
    for setting in SETTINGS.values():
        assert setting.low < setting.high and setting.unit and len(setting.purpose) > 20


def test_the_strongest_source_that_holds_a_value_decides() -> None:
    layers = [
        Layer("mode", "Deck charts", {"vacuum": 70}, {}),
        Layer("class", "film", {"vacuum": 80, "heat_on": 38}, {"vacuum": "thin film lifts"}),
        Layer("preset", "Kelp", {"heat_on": 41}, {}),
    ]
    held = resolve(ABILITIES, layers)
    assert (held["vacuum"].value, held["vacuum"].source) == (70, "mode")
    assert (held["heat_on"].value, held["heat_on"].source) == (41, "preset")
    assert (held["feed"].value, held["feed"].source) == (0, "printer")
    assert held["vacuum"].back_to == "80 % of film" and held["feed"].back_to == ""
    without = resolve(ABILITIES, layers[1:])
    assert without["vacuum"].source == "class" and without["vacuum"].reason == "thin film lifts"


def test_a_value_made_for_another_machine_is_taken_to_the_nearest_and_says_so() -> None:
    held = resolve(ABILITIES, [Layer("class", "film", {"vacuum": 97, "lamp_power": 60}, {})])
    assert held["vacuum"].value == 90 and "97 % asked for" in held["vacuum"].reason
    assert "lamp_power" not in held


def test_what_the_machine_cannot_do_is_refused_by_name() -> None:
    with pytest.raises(BadInput) as refused:
        checked({"vacuum": 95, "lamp_power": 40, "heat_on": 36}, ABILITIES)
    assert "Vacuum of 95 %" in str(refused.value) and "Lamp power: this printer has no such" in str(
        refused.value
    )
    for wrong in ({"speed": 1}, {"heat_on": float("nan")}, {"heat_on": True}, {"vacuum": 101}):
        with pytest.raises(BadInput):
            checked(wrong)
    assert checked({"vacuum": 90}, ABILITIES) == {"vacuum": 90.0}


def test_abilities_that_make_no_sense_are_refused() -> None:
    for parts in (
        {"low": 50, "high": 20, "step": 1, "usual": 30},
        {"low": -5, "high": 20, "step": 1, "usual": 3},
        {"low": 0, "high": 20, "step": 0, "usual": 3},
        {"low": 0, "high": 20, "step": 1, "usual": 30},
    ):
        with pytest.raises(BadInput):
            Ability.of("vacuum", parts)


@given(st.floats(-500, 500, allow_nan=False))
def test_the_nearest_value_is_inside_on_a_step_and_never_farther_than_half_of_one(value: float) -> None:
    ability = Ability(-40, 40, 2.5, 0)
    found = ability.nearest(value)
    assert -40 <= found <= 40 and abs(round(found / 2.5) * 2.5 - found) < 1e-9
    if -40 <= value <= 40:
        assert abs(found - value) <= 1.25 + 1e-9


def test_differences_name_what_one_side_lacks_and_pass_over_half_a_step() -> None:
    found = differences(
        {"vacuum": 50, "feed": 0.104, "heat_on": 36}, {"vacuum": 52, "feed": 0.1, "lamp_power": 5}, ABILITIES
    )
    assert [(d.setting.key, d.wanted, d.held) for d in found] == [
        ("heat_on", 36, None),
        ("lamp_power", None, 5),
    ]


def test_families_begin_as_the_trade_does_and_give_a_reason() -> None:
    start = {name: starting_values(name) for name in FAMILIES}
    assert (
        start["film"]["vacuum"].value
        > start["coated-paper"]["vacuum"].value
        > start["banner"]["vacuum"].value
    )
    assert start["uncoated-paper"]["heat_on"].value < start["coated-paper"]["heat_on"].value
    for values in start.values():
        checked({k: s.value for k, s in values.items()})
        assert all(len(s.reason) > 15 for s in values.values())
    assert starting_values("film", ABILITIES)["vacuum"].value == 80 and "heat_after" not in starting_values(
        "film", ABILITIES
    )
    with pytest.raises(BadInput):
        starting_values("wood")


@pytest.mark.parametrize(
    ("name", "family"),
    [
        ("uncoated cotton paper", "uncoated-paper"),
        ("coated proofing paper", "coated-paper"),
        ("mesh banner", "mesh"),
        ("backlit film", "backlit"),
        ("flag cloth", "textile"),
        ("cork", ""),
    ],
)
def test_a_family_is_guessed_from_the_words_of_a_class(name: str, family: str) -> None:
    assert guess_family(name) == family


def test_changes_of_two_people_are_put_together_field_by_field() -> None:
    base = {"heat": 36, "vacuum": 50, "notes": "a", "width": 100}
    theirs = {"heat": 38, "vacuum": 50, "notes": "b", "width": 110}
    mine = {"heat": 36, "vacuum": 60, "notes": "c", "width": 110}
    found = merge(base, theirs, mine)
    assert found.values == {"heat": 38, "vacuum": 60, "width": 110}
    assert found.theirs == ("heat", "width") and found.mine == ("vacuum", "width")
    assert [(c.field, c.base, c.theirs, c.mine) for c in found.clashes] == [("notes", "a", "b", "c")]


def test_taking_a_value_away_is_a_change_like_another() -> None:
    found = merge({"a": 1, "b": 2}, {"b": 2}, {"a": 1})
    assert found.values == {} and found.theirs == ("a",) and found.mine == ("b",) and not found.clashes
    assert merge({"a": 1}, {"a": 2}, {}).clashes[0].mine is None


_records = st.dictionaries(st.sampled_from("abcd"), st.integers(0, 2))


@given(_records, _records, _records)
def test_no_change_is_ever_lost_in_a_merge(base: dict, theirs: dict, mine: dict) -> None:
    found = merge(base, theirs, mine)
    clashing = {c.field for c in found.clashes}
    for side in (theirs, mine):
        for field, _before, after in changes(base, side):
            assert field in clashing or found.values.get(field) == after
    for field in set(base) & set(theirs) & set(mine):
        if base[field] == theirs[field] == mine[field]:
            assert found.values[field] == base[field]
