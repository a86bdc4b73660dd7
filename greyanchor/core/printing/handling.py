"""Handling settings: everything physical about printing, with unit, range, purpose, and where a value comes
from.

A value is held by the printer, the media class, the media preset or the print mode; the last of them
that holds one decides. What none of them holds is the printer's own usual value.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from greyanchor.core.errors import BadInput

#: who can hold a value, from the weakest to the strongest
SOURCES = ("printer", "class", "preset", "mode")
SOURCE_WORDS = {
    "printer": "the printer",
    "class": "the media class",
    "preset": "the preset",
    "mode": "the mode",
}


@dataclass(frozen=True)
class Setting:
    """One physical setting: its range is the widest any machine may have, in `unit`."""

    key: str
    title: str
    unit: str
    low: float
    high: float
    step: float
    group: str
    purpose: str

    def with_unit(self, value: float | None) -> str:
        """A value with its unit, to the decimals of its step."""
        if value is None:
            return "–"
        text = f"{value:.{decimals(self.step)}f}".replace("-", "−")
        return f"{text} {self.unit}".strip()


_ALL = (
    Setting(
        "vacuum",
        "Vacuum",
        "%",
        0,
        100,
        1,
        "Holding",
        "holds the media flat; too much brakes it, too little lets it lift and be scuffed",
    ),
    Setting(
        "roller_pressure",
        "Roller pressure",
        "N",
        0,
        80,
        1,
        "Holding",
        "grips the media for an even feed; too much marks soft surfaces",
    ),
    Setting(
        "head_height",
        "Head height",
        "mm",
        1,
        6,
        0.1,
        "Holding",
        "keeps the heads clear of the media; higher is safer and less sharp",
    ),
    Setting(
        "heat_before",
        "Heat before the platen",
        "°C",
        15,
        90,
        1,
        "Heat and drying",
        "warms the media so that it lies calm and takes ink evenly",
    ),
    Setting(
        "heat_on",
        "Heat on the platen",
        "°C",
        15,
        90,
        1,
        "Heat and drying",
        "fixes drops where they land; too much makes paper cockle",
    ),
    Setting(
        "heat_after",
        "Heat after the platen",
        "°C",
        15,
        110,
        1,
        "Heat and drying",
        "dries the print before it is wound up",
    ),
    Setting(
        "pass_pause",
        "Dry time between passes",
        "s",
        0,
        10,
        0.1,
        "Heat and drying",
        "lets ink sink in before the next pass; costs speed",
    ),
    Setting(
        "sheet_pause",
        "Dry time between sheets",
        "s",
        0,
        900,
        5,
        "Heat and drying",
        "keeps a sheet from marking the next",
    ),
    Setting(
        "lamp_power",
        "Lamp power",
        "%",
        0,
        100,
        1,
        "Heat and drying",
        "cures ink; too little stays soft, too much makes ink brittle and film warp",
    ),
    Setting(
        "feed",
        "Feed adjustment",
        "%",
        -2,
        2,
        0.01,
        "Movement",
        "closes light and dark lines between the strips of neighbouring passes",
    ),
    Setting(
        "alignment",
        "Alignment of both directions",
        "µm",
        -400,
        400,
        5,
        "Movement",
        "lays drops of both directions on one another",
    ),
    Setting(
        "overprints",
        "Overprint count",
        "times",
        1,
        6,
        1,
        "Ink and heads",
        "prints the same line more than once for density on backlit media",
    ),
    Setting(
        "cleaning",
        "Cleaning every",
        "m²",
        0,
        400,
        1,
        "Ink and heads",
        "keeps nozzles open; 0 cleans between jobs alone",
    ),
    Setting(
        "wiping",
        "Wiping every",
        "m²",
        0,
        100,
        1,
        "Ink and heads",
        "takes fluff and mist off the heads; 0 wipes between jobs alone",
    ),
    Setting(
        "margin_side", "Side margins", "mm", 0, 100, 0.5, "Edges", "keeps ink off the platen beside the media"
    ),
    Setting(
        "margin_top",
        "Leading margin",
        "mm",
        0,
        300,
        1,
        "Edges",
        "lets the rollers hold the media before ink lands",
    ),
    Setting(
        "margin_end", "Trailing margin", "mm", 0, 300, 1, "Edges", "keeps the last lines under the rollers"
    ),
    Setting("cut_force", "Blade force", "g", 0, 600, 5, "Cutting", "cuts the media and not its backing"),
    Setting("cut_speed", "Blade speed", "mm/s", 5, 800, 5, "Cutting", "slower cuts corners clean"),
    Setting(
        "cut_passes", "Blade passes", "times", 1, 8, 1, "Cutting", "thick media are cut in more than one pass"
    ),
    Setting("cut_offset", "Blade offset", "mm", -2, 2, 0.01, "Cutting", "lays the cut on the printed line"),
)
SETTINGS: dict[str, Setting] = {s.key: s for s in _ALL}
GROUPS: tuple[str, ...] = tuple(dict.fromkeys(s.group for s in _ALL))


def decimals(step: float) -> int:
    """How many decimals a value in steps of `step` needs."""
    return max(0, -math.floor(math.log10(step) + 1e-9))


@dataclass(frozen=True)
class Ability:
    """What one machine can do with a setting: its range, its steps and its usual value."""

    low: float
    high: float
    step: float
    usual: float

    @classmethod
    def of(cls, key: str, values: Mapping[str, float]) -> Ability:
        """The ability a printer says of; `BadInput` for a range that makes no sense."""
        setting = setting_named(key)
        made = cls(
            *(
                float(values.get(n, d))
                for n, d in zip(
                    ("low", "high", "step", "usual"), (setting.low, setting.high, setting.step, setting.low)
                )
            )
        )
        if not setting.low <= made.low < made.high <= setting.high:
            raise BadInput(
                f"{setting.title} of {made.low:g} to {made.high:g} {setting.unit} lies outside "
                f"{setting.low:g}..{setting.high:g} {setting.unit}"
            )
        if not made.low <= made.usual <= made.high:
            raise BadInput(
                f"the usual {setting.title.lower()} of {made.usual:g} {setting.unit} lies outside "
                f"{made.low:g}..{made.high:g}"
            )
        if made.step <= 0:
            raise BadInput(f"{setting.title} moves in steps above 0")
        return made

    def nearest(self, value: float) -> float:
        """`value` as the machine can hold it: inside its range, on its steps."""
        inside = min(max(value, self.low), self.high)
        return round(min(self.low + round((inside - self.low) / self.step) * self.step, self.high), 6)


Abilities = Mapping[str, Ability]


def setting_named(key: str) -> Setting:
    """The setting called `key`; `BadInput` when there is none.

    >>> setting_named("vacuum").unit
    '%'
    """
    if key not in SETTINGS:
        raise BadInput(f"there is no handling setting called {key}")
    return SETTINGS[key]


def abilities_of(values: Mapping[str, Mapping[str, float]]) -> dict[str, Ability]:
    """Abilities of a printer from plain values, in the order of `SETTINGS`."""
    for key in values:
        setting_named(key)
    return {key: Ability.of(key, values[key]) for key in SETTINGS if key in values}


def checked(values: Mapping[str, float], abilities: Abilities | None = None) -> dict[str, float]:
    """Values that `abilities` (or any machine, without) can do; `BadInput` names every one it cannot.

    >>> checked({"vacuum": 60}, {"vacuum": Ability(0.0, 100.0, 5.0, 50.0)})
    {'vacuum': 60.0}
    """
    wrong, kept = [], {}
    for key, value in values.items():
        setting = setting_named(key)
        if not isinstance(value, int | float) or isinstance(value, bool) or not math.isfinite(value):
            wrong.append(f"{setting.title} is a number in {setting.unit}")
            continue
        if abilities is not None and key not in abilities:
            wrong.append(f"{setting.title}: this printer has no such setting")
            continue
        low, high = (
            (setting.low, setting.high) if abilities is None else (abilities[key].low, abilities[key].high)
        )
        if not low <= value <= high:
            wrong.append(f"{setting.title} of {value:g} {setting.unit} lies outside {low:g}..{high:g}")
            continue
        kept[key] = round(float(value), 6)
    if wrong:
        raise BadInput("; ".join(wrong))
    return kept


@dataclass(frozen=True)
class Held:
    """A value in force: who holds it, by which name, and what weaker sources would say instead."""

    setting: Setting
    value: float
    source: str
    name: str
    reason: str = ""
    beneath: tuple[tuple[str, str, float], ...] = ()
    ability: Ability | None = None

    @property
    def text(self) -> str:
        """The value with its unit."""
        return self.setting.with_unit(self.value)

    @property
    def would_differ(self) -> bool:
        """Whether handing the value back would change it."""
        return bool(self.beneath) and self.beneath[-1][2] != self.value

    @property
    def back_to(self) -> str:
        """Where the value goes when it is handed back, in words; empty when nothing is beneath."""
        if not self.beneath:
            return ""
        source, name, value = self.beneath[-1]
        if source == "printer":
            return f"{self.setting.with_unit(value)} of the printer"
        return f"{self.setting.with_unit(value)} of {name or SOURCE_WORDS[source]}"


@dataclass(frozen=True)
class Layer:
    """The values one source holds."""

    source: str
    name: str
    values: Mapping[str, float]
    reasons: Mapping[str, str]


def resolve(abilities: Abilities, layers: Iterable[Layer]) -> dict[str, Held]:
    """The value of each setting a machine has, from layers in the order of `SOURCES`.

    A value that the machine cannot hold is taken to the nearest it can, and its reason says so: a
    class or a preset may have been made for another machine.
    """
    ordered = sorted(layers, key=lambda layer: SOURCES.index(layer.source))
    out = {}
    for key, ability in abilities.items():
        stack = [("printer", "", ability.usual, "")]
        for layer in ordered:
            if key in layer.values:
                wanted = float(layer.values[key])
                value = ability.nearest(wanted)
                reason = layer.reasons.get(key, "")
                if abs(value - wanted) > ability.step:
                    reason = f"{SETTINGS[key].with_unit(wanted)} asked for, which this machine cannot do"
                stack.append((layer.source, layer.name, value, reason))
        source, name, value, reason = stack[-1]
        beneath = tuple((s, n, v) for s, n, v, _ in stack[:-1])
        out[key] = Held(SETTINGS[key], value, source, name, reason, beneath, ability)
    return out


@dataclass(frozen=True)
class Difference:
    """One setting that two holders say differently; None where one has none."""

    setting: Setting
    wanted: float | None
    held: float | None


def differences(
    wanted: Mapping[str, float], held: Mapping[str, float], abilities: Abilities | None = None
) -> list[Difference]:
    """Where `held` differs from `wanted`, in the order of `SETTINGS`; less than half a machine's step is
    none.

    >>> [d.setting.key for d in differences({"vacuum": 60.0}, {"vacuum": 55.0})]
    ['vacuum']
    """
    out = []
    for key, setting in SETTINGS.items():
        a, b = wanted.get(key), held.get(key)
        step = abilities[key].step if abilities and key in abilities else setting.step
        if a is None and b is None:
            continue
        if a is None or b is None or abs(a - b) >= 0.5 * step:
            out.append(Difference(setting, a, b))
    return out
