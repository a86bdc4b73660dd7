"""Sensible starting values of handling settings by the family a media class belongs to, each with its reason.

They are where a technician begins, not what a media needs: the first prints say that.
"""

from __future__ import annotations

from dataclasses import dataclass

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.handling import Abilities


@dataclass(frozen=True)
class Start:
    """A value to begin with, and why."""

    value: float
    reason: str


@dataclass(frozen=True)
class Family:
    """A family of media classes with what is known of all of them."""

    key: str
    title: str
    starts: dict[str, Start]


_S = Start
FAMILIES: dict[str, Family] = {
    f.key: f
    for f in (
        Family(
            "coated-paper",
            "coated paper",
            {
                "vacuum": _S(50, "a coated sheet lies flat with a middle vacuum"),
                "heat_on": _S(36, "the coating takes ink fast and needs little heat"),
                "head_height": _S(1.6, "coated paper stays flat, so heads may come close"),
                "roller_pressure": _S(25, "a coated surface is marked by hard rollers"),
            },
        ),
        Family(
            "uncoated-paper",
            "uncoated paper",
            {
                "vacuum": _S(45, "open fibres leak air, more vacuum would only draw dust"),
                "heat_on": _S(32, "less heat: fibres swell with ink and cockle when they dry in a hurry"),
                "head_height": _S(2.0, "cockling comes up to the heads"),
                "wiping": _S(8, "loose fibres gather on the heads"),
            },
        ),
        Family(
            "film",
            "film",
            {
                "vacuum": _S(80, "thin film is light and lifts at its edges: it needs strong vacuum"),
                "heat_on": _S(38, "film takes no ink in, heat holds the drops"),
                "heat_after": _S(50, "nothing soaks away, so it dries after the platen"),
                "pass_pause": _S(0.4, "drops run together on film that is wet"),
                "roller_pressure": _S(20, "film slips and is scratched under pressure"),
            },
        ),
        Family(
            "backlit",
            "backlit film",
            {
                "vacuum": _S(75, "film lifts at its edges"),
                "heat_on": _S(38, "film takes no ink in, heat holds the drops"),
                "heat_after": _S(52, "twice the ink has to dry"),
                "pass_pause": _S(0.6, "heavy ink needs time between passes"),
                "overprints": _S(2, "light comes through the print: one layer looks pale"),
            },
        ),
        Family(
            "banner",
            "banner",
            {
                "vacuum": _S(
                    30, "banner is heavy and soft: strong vacuum brakes it and the feed becomes uneven"
                ),
                "heat_before": _S(42, "a warm banner lies calm"),
                "heat_on": _S(42, "the face is closed and needs heat"),
                "head_height": _S(2.2, "seams and folds stand up"),
                "roller_pressure": _S(40, "weight wants a firm grip"),
            },
        ),
        Family(
            "mesh",
            "mesh",
            {
                "vacuum": _S(25, "air goes through the holes, more vacuum holds nothing"),
                "head_height": _S(2.4, "threads stand up"),
                "heat_on": _S(40, "ink lies on threads alone"),
                "wiping": _S(6, "mist comes back through the holes"),
            },
        ),
        Family(
            "textile",
            "textile",
            {
                "vacuum": _S(35, "cloth is drawn into the holes of the platen by more"),
                "head_height": _S(2.6, "threads and fluff stand up"),
                "heat_on": _S(34, "less heat keeps cloth from shrinking"),
                "wiping": _S(4, "fluff gathers on the heads"),
            },
        ),
        Family(
            "canvas",
            "canvas",
            {
                "vacuum": _S(55, "a stiff weave needs a firm hold"),
                "head_height": _S(2.2, "knots in the weave stand up"),
                "heat_on": _S(36, "the coating takes ink like paper"),
                "margin_side": _S(5, "edges fray under the heads"),
            },
        ),
        Family(
            "synthetic",
            "synthetic paper",
            {
                "vacuum": _S(65, "a synthetic sheet is light and charges itself"),
                "heat_on": _S(40, "it takes little ink in, heat holds the drops"),
                "pass_pause": _S(0.2, "drops stay wet on a closed face"),
            },
        ),
    )
}


def family_named(key: str) -> Family:
    """The family called `key`; `BadInput` when there is none."""
    if key not in FAMILIES:
        raise BadInput(f"there is no media family called {key}")
    return FAMILIES[key]


def starting_values(key: str, abilities: Abilities | None = None) -> dict[str, Start]:
    """Starting values of a family, as far as a machine has the settings, at the nearest it can hold."""
    starts = family_named(key).starts
    if abilities is None:
        return dict(starts)
    return {k: Start(abilities[k].nearest(s.value), s.reason) for k, s in starts.items() if k in abilities}


def guess_family(name: str) -> str:
    """The family that the words of a class name speak for; empty when they speak for none."""
    text = name.casefold()
    for words, key in (
        (("mesh",), "mesh"),
        (("backlit", "lightbox"), "backlit"),
        (("banner",), "banner"),
        (("canvas",), "canvas"),
        (("textile", "cloth", "fabric", "flag"), "textile"),
        (("synthetic",), "synthetic"),
        (("film", "vinyl", "foil"), "film"),
        (("uncoated", "cotton", "bond"), "uncoated-paper"),
        (("coated", "proof", "photo", "gloss", "satin", "matt"), "coated-paper"),
    ):
        if any(word in text for word in words):
            return key
    return ""
