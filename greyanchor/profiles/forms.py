"""Forms of profiles: how one is built, lights, files."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django import forms

from greyanchor.core.colour.illuminants import FIXED_LIGHTS
from greyanchor.core.colour.rgb_spaces import NAMES, USUAL
from greyanchor.core.measurement.readings import is_additive
from greyanchor.core.profiling.separation import PRESETS
from greyanchor.fields import NumberField
from greyanchor.profiles.models import Profile, RoomLight

DAYLIGHTS = ("D50", "D55", "D65", "5600K")


def light_choices() -> list[tuple[str, str]]:
    """Viewing lights: CIE's, and those measured in the shop's rooms."""
    rooms = [(f"room:{light.pk}", f"{light.name}, measured") for light in RoomLight.objects.defer("power")]
    return [*((name, name) for name in (*DAYLIGHTS, *FIXED_LIGHTS)), *rooms]


class Slider(forms.NumberInput):
    """A slider; it always has a value, so that none is asked for."""

    def use_required_attribute(self, initial: Any) -> bool:
        return False


def _percent(label: str, low: int, high: int, initial: int, step: float = 1) -> NumberField:
    return NumberField(
        label=label,
        min_value=low,
        max_value=high,
        initial=initial,
        widget=Slider(attrs={"type": "range", "step": step, "min": low, "max": high}),
    )


class SeparationForm(forms.Form):
    """How a profile is separated; percent. Limits of single channels are fields named ``limit_C``, those of
    inks that print together ``overprint_C+M``, and what takes over how readily ``handover_O``.
    """

    black_start = _percent("Black start", 0, 95, 25)
    black_strength = _percent("Black strength", 0, 100, 50)
    max_black = _percent("Maximum black", 0, 100, 100)
    width = _percent("Width of black", 10, 300, 100)

    def __init__(self, *args: Any, channels: Sequence[str] = "CMYK", **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.channels = list(channels)
        self.further: list[str] = []
        self.overprints = sorted(
            {
                k.removeprefix("overprint_")
                for k in (*self.data, *(self.initial or {}))
                if k.startswith("overprint_")
            }
        )
        most = 100 * len(self.channels)
        if is_additive(tuple(self.channels)):
            # a printer that parts colours itself keeps its inks to itself: only tables and sources are ours
            self.fields.clear()
            self.channels = []
            return
        if "K" not in self.channels or most == 100:
            for name in ("black_start", "black_strength", "max_black", "width"):
                del self.fields[name]
        if len(self.channels) > 4:
            self.further = self.channels[4:]
            for channel in self.further:
                self.fields[f"handover_{channel}"] = _percent(f"Handover to {channel}", 0, 100, 50)
            self.fields["from_chroma"] = _percent("Further inks from chroma", 0, 60, 8)
        if most > 100:
            self.fields["total_ink"] = _percent("Total ink", 100, most, min(300, most))
        for channel in self.channels:
            self.fields[f"limit_{channel}"] = _percent(f"Limit of {channel}", 20, 100, 100)
        for name in self.overprints:
            inks = name.split("+")
            if set(inks) <= set(self.channels) and len(inks) > 1:
                field = _percent(f"{name} together", 100, 100 * len(inks), 100 * len(inks))
                self.fields[f"overprint_{name}"] = field

    def options(self) -> dict[str, Any]:
        """The separation as plain percents, as `settings.separation_from` takes them."""
        several = ("limit_", "handover_", "overprint_")
        facts = {k: v for k, v in self.cleaned_data.items() if not k.startswith(several)}
        limits = {c: self.cleaned_data[f"limit_{c}"] for c in self.channels}
        together = {k: self.cleaned_data.get(f"overprint_{k}") for k in self.overprints}
        return facts | {
            "limits": {c: v for c, v in limits.items() if v < 100},
            "handovers": {c: self.cleaned_data[f"handover_{c}"] for c in self.further},
            "overprints": {k: v for k, v in together.items() if v and v < 100 * len(k.split("+"))},
        }

    @classmethod
    def initial_of(cls, options: dict[str, Any]) -> dict[str, Any]:
        """What the fields show for `options`."""
        several = (("limit", "limits"), ("handover", "handovers"), ("overprint", "overprints"))
        shown = {f"{name}_{c}": v for name, key in several for c, v in (options.get(key) or {}).items()}
        return {**options, **shown}


class KindForm(forms.Form):
    """What kind of file is written, for which light and sources."""

    title = forms.CharField(max_length=160)
    light = forms.ChoiceField(label="Viewing light", choices=light_choices)
    source = forms.ChoiceField(label="Pictures come in", choices=list(NAMES.items()), initial=USUAL)
    version = forms.TypedChoiceField(label="ICC version", coerce=int, choices=[(4, "4"), (2, "2")])
    quality = forms.ChoiceField(
        label="Tables", choices=[("full", "full"), ("draft", "draft, for a quick look")]
    )


class NewProfileForm(KindForm):
    """A profile from files of readings."""

    title = forms.CharField(max_length=160)
    preset = forms.ChoiceField(label="Separation for", choices=[(p.name, p.title) for p in PRESETS])
    total_ink = NumberField(label="Total ink, %", required=False, min_value=100, max_value=800)


class CompareForm(forms.Form):
    """Another profile to lay beside this one."""

    other = forms.ModelChoiceField(Profile.objects.none(), required=False, empty_label="none")

    def __init__(self, *args: Any, profiles: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["other"].queryset = profiles  # type: ignore[attr-defined]
