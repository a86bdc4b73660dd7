"""Forms of builds."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from django import forms

from greyanchor.checks.tolerance_sets import tolerance_choices
from greyanchor.core.charts.layout import DOTS, METHODS
from greyanchor.core.measurement.readings import is_additive
from greyanchor.core.numbers import parse_number
from greyanchor.core.printing.environment import DIRECTIONS, HALFTONES, OFF
from greyanchor.core.printing.film_screen import DOTS as DOTS_OF_FILMS
from greyanchor.core.printing.film_screen import LEAST_LINES, MOST_LINES, FilmScreen
from greyanchor.fields import NumberField, WholeField
from greyanchor.library.models import InkSet, Media, Printer, PrintMode
from greyanchor.profiles.forms import KindForm
from greyanchor.profiles.models import AimRecord

TONE_AIMS = [
    ("sctv", "SCTV linear"),
    ("tvi:13", "tone value increase 13 %"),
    ("tvi:16", "tone value increase 16 %"),
    ("lstar", "L* linear"),
    ("density", "density linear"),
]
PAGES = [
    ("a4", "A4 sheet"),
    ("a3", "A3 sheet"),
    ("600x900", "roll, 600 x 900 mm"),
    ("1000x1200", "roll, 1000 x 1200 mm"),
]


#: settings of the driver of a printer that takes R G B; its colour management as it may be found
DRIVER_FIELDS = ("driver_media", "driver_quality", "driver_colour")
DRIVER_COLOUR = [(OFF, "off"), ("on", "on")]
#: dots of films, and the screen that has none
FILM_DOTS = [*((d, d) for d in DOTS_OF_FILMS), ("blue-noise", "blue noise")]
#: fields of a profile that only inks have
INK_FIELDS = ("total_ink", "black_start", "black_strength", "max_black", "width", "limits", "overprints")
#: an ink with its limit, in a line of them
_LIMIT = re.compile(r"([A-Z]+)\s*=\s*(\d+(?:[.,]\d+)?)")


def percent_field(label: str, least: float, initial: float | None = None, most: float = 100) -> NumberField:
    """A field for percent."""
    return NumberField(label=label, min_value=least, max_value=most, initial=initial)


def usable_printers() -> list[Printer]:
    """Printers that a build can be printed on: with an ink set, resolutions and passes."""
    found = Printer.objects.exclude(ink_sets=None).select_related("site").prefetch_related("ink_sets")
    return [p for p in found if p.resolutions and p.passes]


class NewBuildForm(forms.Form):
    """The choices that are frozen for a build."""

    printer = forms.ModelChoiceField(Printer.objects.select_related("site"), empty_label=None)
    ink_set = forms.ModelChoiceField(InkSet.objects.all(), empty_label=None)
    media = forms.ModelChoiceField(Media.objects.all(), empty_label=None)  # type: ignore[assignment]
    resolution = forms.TypedChoiceField(coerce=int, initial=1200)
    passes = forms.TypedChoiceField(coerce=int, initial=8)
    direction = forms.ChoiceField(choices=[(d, d) for d in DIRECTIONS])
    halftone = forms.ChoiceField(choices=[(h, h) for h in HALFTONES], initial="blue noise")
    heat = NumberField(label="Heat, °C", min_value=15, max_value=90, initial=36)
    vacuum = NumberField(label="Vacuum, %", min_value=0, max_value=100, initial=50)
    driver_media = forms.CharField(
        label="Paper in the driver", max_length=60, required=False, help_text="as the driver calls it"
    )
    driver_quality = forms.CharField(label="Quality in the driver", max_length=60, required=False)
    driver_colour = forms.ChoiceField(
        label="Colour management of the driver", choices=DRIVER_COLOUR, required=False, initial=OFF
    )
    film_lines = NumberField(
        label="Lines an inch", min_value=LEAST_LINES, max_value=MOST_LINES, initial=60, required=False
    )
    film_dot = forms.ChoiceField(label="Dots", choices=FILM_DOTS, initial="round", required=False)
    name = forms.CharField(label="Name of the print mode", max_length=160)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        """Only what some printer has is offered, and only printers that can print: with inks and passes."""
        super().__init__(*args, **kwargs)
        printers = usable_printers()
        self.fields["printer"].queryset = Printer.objects.filter(  # type: ignore[attr-defined]
            pk__in=[p.pk for p in printers]
        ).select_related("site")
        inks = InkSet.objects.filter(printers__in=printers).distinct()
        self.fields["ink_set"].queryset = inks  # type: ignore[attr-defined]
        resolutions = sorted({r for p in printers for r in p.resolutions})
        passes = sorted({n for p in printers for n in p.passes})
        dpi = [(r, f"{r} dpi") for r in resolutions]
        self.fields["resolution"].choices = dpi  # type: ignore[attr-defined]
        self.fields["passes"].choices = [(n, str(n)) for n in passes]  # type: ignore[attr-defined]

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        printer, ink_set = data.get("printer"), data.get("ink_set")
        if printer and ink_set and ink_set not in printer.ink_sets.all():
            runs = ", ".join(i.name for i in printer.ink_sets.all())
            self.add_error("ink_set", f"{printer.name} runs {runs}.")
        elif ink_set and not ink_set.can_be_built:
            self.add_error("ink_set", f"{ink_set.name} cannot be built for: {ink_set.not_built}.")
        if printer and ink_set and ink_set.parts_itself:
            _hold_driver(self, printer)
        if ink_set and ink_set.is_film and not data.get("film_lines"):
            self.errors.pop("film_lines", None)
            self.add_error("film_lines", f"Films have {LEAST_LINES:g} to {MOST_LINES:g} lines an inch.")
        if printer:
            self._hold("resolution", printer.resolutions, f"{printer.name} prints", "dpi")
            self._hold("passes", printer.passes, f"{printer.name} runs", "passes")
        return data

    def _hold(self, name: str, known: list[int], who: str, unit: str) -> None:
        """Refuse a choice that the chosen printer does not have, whoever else may have it."""
        if self.cleaned_data.get(name) not in known:
            self.errors.pop(name, None)
            self.add_error(name, f"{who} {', '.join(map(str, known))} {unit}.")

    def environment(self) -> dict[str, Any]:
        """The choices beside printer, ink set and media."""
        names = ("resolution", "passes", "direction", "halftone", "heat", "vacuum")
        inks, data = self.cleaned_data["ink_set"], self.cleaned_data
        made = {k: data[k] for k in (*names, *(DRIVER_FIELDS if inks.parts_itself else ()))}
        return {**made, "screen": _film_screen(data)} if inks.is_film else made


def _film_screen(data: Mapping[str, Any]) -> str:
    """The screen of films that a form says."""
    if data["film_dot"] == "blue-noise":
        return str(FilmScreen("blue-noise"))
    return str(FilmScreen("am", float(data["film_lines"]), data["film_dot"]))


def _hold_driver(form: forms.Form, printer: Printer) -> None:
    """Refuse settings that the driver of a printer does not have, and its colour management."""
    for name in ("media", "quality"):
        known = printer.driver.get(name) or []
        given = str(form.cleaned_data.get(f"driver_{name}") or "").strip()
        if not given:
            form.add_error(f"driver_{name}", f"Say what {name} the driver is set to.")
        elif known and given not in known:
            form.add_error(f"driver_{name}", f"The driver of {printer.name} has {', '.join(known)}.")
    if form.cleaned_data.get("driver_colour") != OFF:
        form.add_error(
            "driver_colour",
            "Turn it off: what goes through the driver's colour management says nothing of the printer.",
        )


class DecisionForm(forms.Form):
    """Accepting a stage; a reason overrides what stands against it."""

    version = forms.IntegerField(widget=forms.HiddenInput)
    reason = forms.CharField(label="Reason", required=False, max_length=300)

    def values(self) -> dict[str, Any]:
        """What the stage keeps as its decision."""
        return {}


class ReleaseForm(DecisionForm):
    """A note for operators."""

    note = forms.CharField(
        label="Note for operators", max_length=300, widget=forms.Textarea(attrs={"rows": 2})
    )

    def values(self) -> dict[str, Any]:
        return {"note": self.cleaned_data["note"]}


class MeasuringForm(forms.Form):
    """How a chart is read, and on what it is printed."""

    method = forms.ChoiceField(choices=[(m.name, m.title) for m in METHODS.values()])
    page = forms.ChoiceField(label="Sheet or roll", choices=PAGES)
    patch = forms.TypedChoiceField(
        label="Patch size",
        required=False,
        coerce=float,
        empty_value=None,
        choices=[("", "usual size"), ("10", "10 mm wide"), ("12", "12 mm wide"), ("16", "16 mm wide")],
    )
    dots = forms.TypedChoiceField(
        label="Readings of each patch",
        coerce=int,
        choices=[(d, "1" if d == 1 else f"{d}, for grainy output") for d in DOTS],
    )


class ProfileChartOptions(MeasuringForm):
    """Size of the profile chart, and how it is read."""

    patches = WholeField(
        min_value=60, max_value=6000, initial=1000,
        help_text="fewer than 200 are built with what two other media or more with these inks teach",
    )  # fmt: skip


class ProfileOptions(KindForm):
    """Separation and kind of the profile."""

    total_ink = NumberField(label="Total ink, %", min_value=100, max_value=800)
    black_start = NumberField(label="Black start, %", min_value=0, max_value=95, initial=25)
    black_strength = NumberField(label="Black strength, %", min_value=0, max_value=100, initial=50)
    max_black = NumberField(label="Maximum black, %", min_value=0, max_value=100, initial=100)
    width = NumberField(label="Width of black, %", min_value=10, max_value=300, initial=100)
    overprints = forms.CharField(
        label="Inks together, %",
        required=False,
        max_length=200,
        widget=forms.TextInput(attrs={"placeholder": "C+M=170"}),
    )
    limits = forms.CharField(
        label="Limits of single inks",
        required=False,
        max_length=80,
        widget=forms.TextInput(attrs={"placeholder": "C=90, M=85"}),
    )

    def __init__(self, *args: Any, channels: Sequence[str] = "CMYK", **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.channels = list(channels)
        if is_additive(tuple(channels)):  # the printer parts its inks itself
            for name in INK_FIELDS:
                del self.fields[name]
            return
        if len(self.channels) > 4:
            self.fields["from_chroma"] = NumberField(
                label="Further inks from chroma", min_value=0, max_value=60, initial=8, required=False
            )
            self.fields["handover"] = NumberField(
                label="Handover to further inks, %", min_value=0, max_value=100, initial=50, required=False
            )
        if "K" not in self.channels or len(self.channels) == 1:
            for name in ("black_start", "black_strength", "max_black", "width"):
                del self.fields[name]
        if len(self.channels) == 1:
            del self.fields["total_ink"], self.fields["overprints"]

    def clean_overprints(self) -> dict[str, float]:
        """Percents by inks that print together, from the line, or from fields ``overprint_C+M``."""
        sent = [(k[10:], str(v)) for k, v in self.data.items() if k.startswith("overprint_")]
        line = self.cleaned_data["overprints"] or ",".join(f"{k}={v}" for k, v in sent)
        found: dict[str, float] = {}
        for part in filter(None, (p.strip() for p in line.replace(";", ",").split(","))):
            name, _, value = part.upper().partition("=")
            inks = [c.strip() for c in name.split("+")]
            if len(inks) < 2 or not set(inks) <= {c.upper() for c in self.channels}:
                raise forms.ValidationError(
                    f"{part} is not understood: write C+M=170, with inks of this set."
                )
            found["+".join(inks)] = parse_number(value)
        return found

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        handovers = {
            k[9:]: parse_number(str(v)) for k, v in self.data.items() if k.startswith("handover_") and v
        }
        return data | ({"handovers": handovers} if handovers else {})

    def clean_limits(self) -> dict[str, float]:
        """Percents by ink: from the line, or from fields ``limit_C`` as the separation page sends them."""
        line = self.cleaned_data["limits"] or ",".join(
            f"{name[6:]}={value}"
            for name, value in self.data.items()
            if name.startswith("limit_") and value not in ("100", "100.0")
        )
        found: dict[str, float] = {}
        rest = _LIMIT.sub("", line.upper()).strip(" ,;")
        for name, value in _LIMIT.findall(line.upper()):
            found[name] = parse_number(value)
            if not 20 <= found[name] <= 100:
                rest = rest or f"{name}={value}"
        if rest:
            raise forms.ValidationError(f"{rest} is not understood: write C=90, M=85.5, from 20 to 100 %.")
        return found


class CheckOptions(forms.Form):
    """What a print is held to."""

    aim = forms.ModelChoiceField(
        AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data"), empty_label=None
    )
    tolerances = forms.ChoiceField(choices=tolerance_choices)
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False, initial=True)


class ToneAimForm(forms.Form):
    """The aim of the tone scale."""

    aim = forms.ChoiceField(choices=TONE_AIMS)


class EnvironmentForm(forms.Form):
    """The choices of an environment beside printer, ink set and media."""

    resolution = forms.TypedChoiceField(coerce=int)
    passes = forms.TypedChoiceField(coerce=int)
    direction = forms.ChoiceField(choices=[(d, d) for d in DIRECTIONS])
    halftone = forms.ChoiceField(choices=[(h, h) for h in HALFTONES])
    heat = NumberField(label="Heat, °C", min_value=15, max_value=90)
    vacuum = NumberField(label="Vacuum, %", min_value=0, max_value=100)
    driver_media = forms.CharField(label="Paper in the driver", max_length=60)
    driver_quality = forms.CharField(label="Quality in the driver", max_length=60)
    driver_colour = forms.ChoiceField(label="Colour management of the driver", choices=DRIVER_COLOUR)
    film_lines = NumberField(label="Lines an inch", min_value=LEAST_LINES, max_value=MOST_LINES)
    film_dot = forms.ChoiceField(label="Dots", choices=FILM_DOTS)
    reason = forms.CharField(label="Why", max_length=200)

    def __init__(self, *args: Any, mode: PrintMode, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.mode, printer = mode, mode.printer
        resolutions = sorted({*printer.resolutions, mode.environment["resolution"]})
        passes = sorted({*printer.passes, mode.environment["passes"]})
        offered: Any = self.fields
        offered["resolution"].choices = [(r, f"{r} dpi") for r in resolutions]
        offered["passes"].choices = [(p, str(p)) for p in passes]
        if not mode.ink_set.parts_itself:
            for name in DRIVER_FIELDS:
                del self.fields[name]
        if mode.ink_set.is_film:
            screen = FilmScreen.of(str(mode.environment.get("screen") or "am"))
            offered["film_lines"].initial = screen.lines
            offered["film_dot"].initial = screen.shape
        else:
            del self.fields["film_lines"], self.fields["film_dot"]

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        if self.mode.ink_set.parts_itself:
            _hold_driver(self, self.mode.printer)
        return data

    def choices(self) -> dict[str, Any]:
        """The environment alone."""
        beside = ("reason", "film_lines", "film_dot")
        made = {k: v for k, v in self.cleaned_data.items() if k not in beside}
        return {**made, "screen": _film_screen(self.cleaned_data)} if self.mode.ink_set.is_film else made


class FasterForm(forms.Form):
    """A faster mode from a slow one."""

    name = forms.CharField(label="Name of the faster mode", max_length=160)
    passes = forms.TypedChoiceField(coerce=int)
    direction = forms.ChoiceField(choices=[(d, d) for d in DIRECTIONS])

    def __init__(self, *args: Any, passes: Sequence[int], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["passes"].choices = [(p, str(p)) for p in passes]  # type: ignore[attr-defined]


class InheritForm(forms.Form):
    """Whose limits, curves, total ink or profile to take, and why."""

    version = forms.IntegerField(widget=forms.HiddenInput)
    lender = forms.TypedChoiceField(label="Take it from", coerce=int)
    reason = forms.CharField(label="Why not its own", max_length=200)

    def __init__(self, *args: Any, lenders: Sequence[Any], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        lender: Any = self.fields["lender"]
        lender.choices = [(f.mode.pk, f"{f.mode.name} ({f.why})") for f in lenders]
