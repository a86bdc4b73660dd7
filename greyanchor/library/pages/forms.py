"""Forms of the library: facts of each kind of record, handling settings, and what a merge asks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from django import forms

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.printing.handling import GROUPS, SETTINGS, Ability, Held, decimals
from greyanchor.core.printing.inks import OVER, ROLES, UNDER, check_roles
from greyanchor.fields import NumberField
from greyanchor.library.models import InkSet, Media, MediaClass, MediaPreset, Printer, PrintMode
from greyanchor.library.records.record_types import KINDS, Kind

#: most letters of why a class holds a value
MOST_WHY = 160


class ListField(forms.CharField):
    """A list written with commas or spaces; whole numbers with `numbers`."""

    def __init__(self, *args: Any, numbers: bool = False, **kwargs: Any) -> None:
        self.numbers = numbers
        super().__init__(*args, **kwargs)

    def prepare_value(self, value: Any) -> Any:
        return ", ".join(map(str, value)) if isinstance(value, list) else value

    def to_python(self, value: Any) -> Any:
        words = str(value or "").replace(",", " ").split()
        if not self.numbers:
            return words
        if not all(w.isdecimal() and 0 < int(w) < 100_000 for w in words):
            raise forms.ValidationError("Write whole numbers, with commas between them.")
        return sorted({int(w) for w in words})

    def has_changed(self, initial: Any, data: Any) -> bool:
        return bool(self.to_python(data) != initial)


class WordsField(forms.CharField):
    """A list of words, with commas between them."""

    def prepare_value(self, value: Any) -> Any:
        return ", ".join(value) if isinstance(value, list) else value

    def to_python(self, value: Any) -> Any:
        return (
            value
            if isinstance(value, list)
            else [w.strip() for w in str(value or "").split(",") if w.strip()]
        )


#: letters of channels that may be written in one word
_LETTERS = set("CMYKRGBOV")


class ChannelsField(ListField):
    """Channels in printing order; ``CMYK`` is four of them."""

    def to_python(self, value: Any) -> Any:
        words = super().to_python(value)
        if len(words) == 1 and len(words[0]) > 1 and set(words[0].upper()) <= _LETTERS:
            return list(words[0].upper())
        return words


class PairsField(forms.CharField):
    """Pairs such as ``LC=C, LM=M``."""

    def prepare_value(self, value: Any) -> Any:
        return ", ".join(f"{k}={v}" for k, v in value.items()) if isinstance(value, dict) else value

    def to_python(self, value: Any) -> Any:
        pairs = [w.partition("=") for w in str(value or "").replace(",", " ").split()]
        if not all(a and b for a, _, b in pairs):
            raise forms.ValidationError("Write each light ink with its parent, such as LC=C.")
        return {a: b for a, _, b in pairs}


#: what may stand behind an ink in a line of its own: drop volume and density
_FACT = re.compile(r"(\d+(?:[.,]\d+)?)\s*(pl|D)\b")


class InkFactsField(forms.CharField):
    """What else is known of inks, one in a line: ``W white, under`` or ``C 4 pl, 1.45 D``."""

    widget = forms.Textarea(attrs={"rows": 4})

    def prepare_value(self, value: Any) -> Any:
        if not isinstance(value, dict):
            return value
        return "\n".join(self._line(c, facts) for c, facts in value.items())

    def _line(self, channel: str, facts: dict[str, Any]) -> str:
        parts = [str(facts[k]) for k in ("role", "place") if facts.get(k)]
        parts += [f"{facts[k]:g} {unit}" for k, unit in (("drop_pl", "pl"), ("density", "D")) if facts.get(k)]
        return f"{channel} {', '.join(parts)}".strip()

    def to_python(self, value: Any) -> Any:
        if isinstance(value, dict):
            return value
        found: dict[str, Any] = {}
        for line in filter(None, (part.strip() for part in str(value or "").splitlines())):
            channel, _, rest = line.partition(" ")
            facts: dict[str, Any] = {
                {"pl": "drop_pl", "D": "density"}[unit]: parse_number(number)
                for number, unit in _FACT.findall(rest)
            }
            for word in filter(None, (w.strip() for w in _FACT.sub("", rest).split(","))):
                if word not in (*ROLES, UNDER, OVER):
                    raise forms.ValidationError(
                        f"{channel}: {word} is not understood. Roles are {', '.join(ROLES)}; white, varnish "
                        "and spot inks print under or over; 4 pl is a drop, 1.45 D a density."
                    )
                facts["role" if word in ROLES else "place"] = word
            found[channel] = facts
        return found

    def has_changed(self, initial: Any, data: Any) -> bool:
        return bool(str(self.prepare_value(initial) or "").split() != str(data or "").split())


class RecordForm(forms.ModelForm):
    """Facts of a record, with the version they were read at and the reason of the change."""

    version = forms.IntegerField(widget=forms.HiddenInput)
    why = forms.CharField(label="Why", max_length=300, help_text="kept in the history")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.order_fields([n for n in self.fields if n != "why"])  # the reason is asked last

    def values(self) -> dict[str, Any]:
        """Flat values by field, records by their primary key."""
        names = [n for n in self._meta.fields if n in self.cleaned_data]  # type: ignore[union-attr]
        return {n: getattr(self.cleaned_data[n], "pk", self.cleaned_data[n]) for n in names}


class MediaForm(RecordForm):
    class Meta:
        model = Media
        fields = [
            "name",
            "media_class",
            "maker",
            "weight",
            "thickness",
            "width_mm",
            "brightener",
            "travels_backwards",
            "unreadable",
            "dry_minutes",
            "price",
            "notes",
        ]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}


class ClassForm(RecordForm):
    class Meta:
        model = MediaClass
        fields = ["name", "family", "notes"]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}


class PresetForm(RecordForm):
    class Meta:
        model = MediaPreset
        fields = ["name", "notes"]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}


class NewPresetForm(PresetForm):
    printer_model = forms.ChoiceField(label="Model of printer")

    class Meta(PresetForm.Meta):
        fields = ["name", "media", "printer_model", "notes"]

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        models = Printer.objects.order_by("model").values_list("model", flat=True).distinct()
        self.fields["printer_model"].choices = [(m, m) for m in models]  # type: ignore[attr-defined]


class PrinterForm(RecordForm):
    resolutions = ListField(label="Resolutions, dpi", numbers=True)
    passes = ListField(label="Passes", numbers=True)
    swath = NumberField(label="Height of the head, mm", min_value=1, max_value=500, required=False)
    fastest = NumberField(label="Fastest carriage, mm/s", min_value=50, max_value=5000, required=False)
    firing = NumberField(label="Firing rate, kHz", min_value=1, max_value=200, required=False)
    turn = NumberField(label="Turnaround time, s", min_value=0, max_value=5, required=False)
    driver_media = WordsField(
        label="Media its driver knows", required=False, help_text="with commas; for printers that take R G B"
    )
    driver_quality = WordsField(label="Qualities its driver knows", required=False)
    ink_sets = forms.ModelMultipleChoiceField(
        InkSet.objects.all(), required=False, widget=forms.CheckboxSelectMultiple, label="Ink sets"
    )

    class Meta:
        model = Printer
        fields = [
            "name",
            "model",
            "site",
            "serial",
            "width_mm",
            "resolutions",
            "passes",
            "driven_as",
            "slots",
            "notes",
        ]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}
        labels = {"width_mm": "Width, mm"}

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in ("swath", "fastest", "firing", "turn"):
            self.fields[name].initial = self.instance.carriage.get(name)
        for name in ("media", "quality"):
            self.fields[f"driver_{name}"].initial = self.instance.driver.get(name)
        if self.instance.pk:
            self.fields["ink_sets"].initial = list(self.instance.ink_sets.values_list("pk", flat=True))

    def values(self) -> dict[str, Any]:
        found = super().values()
        carriage = {n: self.cleaned_data.get(n) for n in ("swath", "fastest", "firing", "turn")}
        inks = sorted(i.pk for i in self.cleaned_data["ink_sets"])
        driver = {n: self.cleaned_data.get(f"driver_{n}") for n in ("media", "quality")}
        more = {f"carriage.{n}": v for n, v in carriage.items()}
        more |= {f"driver.{n}": v or None for n, v in driver.items()}
        return {**found, **more, "ink_sets": inks or None}


class InkForm(RecordForm):
    channels = ChannelsField(label="Channels", help_text="in printing order, such as C M Y K or CMYK")
    light = PairsField(
        label="Light inks",
        required=False,
        help_text="each with its parent, such as LC=C, LM=M; MC=C, LC=MC for three weights",
    )

    facts = InkFactsField(
        label="More of single inks",
        required=False,
        help_text="one in a line: W white, under; V varnish; MK second black; C 4 pl, 1.45 D",
    )

    class Meta:
        model = InkSet
        fields = ["name", "kind", "channels", "light", "facts", "price", "notes"]
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}

    def clean_facts(self) -> dict[str, Any]:
        """Spectra that were read stay with their inks; roles and places must make sense."""
        facts: dict[str, Any] = self.cleaned_data["facts"] or {}
        for channel, kept in (self.instance.facts or {}).items():
            if "spectrum" in kept:
                facts.setdefault(channel, {})["spectrum"] = kept["spectrum"]
        return facts

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        try:
            check_roles(data.get("channels") or [], data.get("light") or {}, data.get("facts") or {})
        except BadInput as error:
            self.add_error("facts", error.sentence)
        return data


class ModeForm(RecordForm):
    class Meta:
        model = PrintMode
        fields = ["name", "note"]
        widgets = {"note": forms.Textarea(attrs={"rows": 3})}
        labels = {"note": "Note for operators"}


FORMS: dict[str, type[RecordForm]] = {
    "media": MediaForm,
    "media-classes": ClassForm,
    "presets": PresetForm,
    "printers": PrinterForm,
    "ink-sets": InkForm,
    "modes": ModeForm,
}
NEW_FORMS: dict[str, type[RecordForm]] = {**FORMS, "presets": NewPresetForm}


# --- handling settings -----------------------------------------------------------------------


class HandlingRow:
    """One setting in a form: what is held here, what is in force, and who says so."""

    def __init__(
        self, key: str, own: float | None, held: Held | None, ability: Ability | None, reason: str = ""
    ) -> None:
        self.setting, self.own, self.held, self.ability = SETTINGS[key], own, held, ability
        self.reason = reason or (held.reason if held else "")
        self.low = ability.low if ability else self.setting.low
        self.high = ability.high if ability else self.setting.high
        self.step = ability.step if ability else self.setting.step
        self.text = "" if own is None else f"{own:.{decimals(self.setting.step)}f}"
        self.error = ""

    @property
    def name(self) -> str:
        return f"handling.{self.setting.key}"

    @property
    def reason_name(self) -> str:
        return f"reasons.{self.setting.key}"

    @property
    def range(self) -> str:
        return f"{self.low:g} to {self.high:g}".replace("-", "−")


class HandlingForm:
    """All settings a record can hold, as rows by group; an empty field hands a value back to its source.

    A class says beside each value why it is what it is: `reasons` by setting, kept and emptied with the
    value.
    """

    def __init__(
        self,
        own: Mapping[str, float],
        held: Mapping[str, Held] | None = None,
        data: Mapping[str, Any] | None = None,
        reasons: Mapping[str, str] | None = None,
    ) -> None:
        keys = list(held) if held is not None else list(SETTINGS)
        self.rows = {
            k: HandlingRow(
                k,
                own.get(k),
                held.get(k) if held else None,
                held[k].ability if held else None,
                (reasons or {}).get(k, ""),
            )
            for k in keys
        }
        self.data = data
        self.cleaned: dict[str, float | str | None] = {}

    def is_valid(self) -> bool:
        """Read the fields that were sent; a wrong one keeps its text and says what is wrong."""
        assert self.data is not None
        for row in self.rows.values():
            if row.name not in self.data:
                continue
            if row.reason_name in self.data:
                row.reason = str(self.data[row.reason_name]).strip()[:MOST_WHY]
                self.cleaned[row.reason_name] = row.reason or None
            row.text = str(self.data[row.name]).strip()
            if not row.text:
                self.cleaned[row.name] = None
                if row.reason_name in self.cleaned:
                    self.cleaned[row.reason_name] = None
                continue
            try:
                value = parse_number(row.text)
            except BadInput:
                row.error = f"a number in {row.setting.unit}"
                continue
            if not row.low <= value <= row.high:
                row.error = f"{row.range} {row.setting.unit}"
                continue
            self.cleaned[row.name] = value
        return not any(r.error for r in self.rows.values())

    @property
    def groups(self) -> list[tuple[str, list[HandlingRow]]]:
        """Rows by group, in the order a technician thinks of them."""
        return [
            (g, rows) for g in GROUPS if (rows := [r for r in self.rows.values() if r.setting.group == g])
        ]


class AbilitiesForm:
    """Which settings a printer has, each with range, steps and usual value."""

    _PARTS = ("low", "high", "step", "usual")

    def __init__(self, own: Mapping[str, Mapping[str, float]], data: Mapping[str, Any] | None = None) -> None:
        self.data = data
        self.rows = [
            {
                "setting": s,
                "has": k in own,
                "parts": [(p, (own.get(k) or self._widest(k))[p]) for p in self._PARTS],
                "name": f"abilities.{k}",
            }
            for k, s in SETTINGS.items()
        ]

    @staticmethod
    def _widest(key: str) -> dict[str, float]:
        s = SETTINGS[key]
        return {"low": s.low, "high": s.high, "step": s.step, "usual": max(s.low, min(s.high, 0.0))}

    def values(self) -> dict[str, Any]:
        """Flat values of the abilities that are ticked; raises `ValueError` for what is no number."""
        assert self.data is not None
        out: dict[str, Any] = {}
        for row in self.rows:
            name = row["name"]
            out[name] = (
                {p: parse_number(str(self.data.get(f"{name}.{p}", ""))) for p in self._PARTS}
                if self.data.get(name)
                else None
            )
        return out


def form_of(kind: Kind, new: bool = False) -> type[RecordForm]:
    """The form of a kind."""
    return (NEW_FORMS if new else FORMS)[KINDS[kind.key].key]
