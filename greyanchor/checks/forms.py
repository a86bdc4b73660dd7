"""Forms of checks."""

from __future__ import annotations

from typing import Any

from django import forms

from greyanchor.checks.models import Check
from greyanchor.checks.strip_prints import StripChoice, strip_choices
from greyanchor.checks.tolerance_sets import all_keys, tolerance_choices
from greyanchor.core.charts.layout import METHODS
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.verification.groups import GROUPS
from greyanchor.core.verification.statistics import TITLES
from greyanchor.core.verification.tolerances import MEASURES
from greyanchor.fields import WholeField
from greyanchor.library.models import Printer, PrintMode
from greyanchor.profiles.models import AimRecord, SpotRecord

_PAGES = [
    ("a4", "A4"),
    ("a3", "A3"),
    ("210x120", "210 × 120 mm, next to the job"),
    ("330x100", "330 × 100 mm, next to the job"),
]


def checkable_modes() -> Any:
    """Modes that a strip can be printed on: they have curves, and make colour rather than films."""
    return PrintMode.objects.exclude(state=PrintMode.State.RETIRED).exclude(curve_set=None).filter(film={})


class PredictionForm(forms.Form):
    """What a print would be held to."""

    aim = forms.ModelChoiceField(
        AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data"), empty_label=None
    )
    tolerances = forms.ChoiceField(choices=tolerance_choices)
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False)


class OrderForm(forms.Form):
    """What prints are held to, and what they are of."""

    aim = forms.ModelChoiceField(
        AimRecord.objects.defer("data"), required=False, empty_label="none: the print itself"
    )
    tolerances = forms.ChoiceField(label="Tolerance set", choices=all_keys)
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False)
    spots = forms.ModelMultipleChoiceField(
        SpotRecord.objects.all(),
        label="Spot colours",
        required=False,
        widget=forms.SelectMultiple(attrs={"size": 4}),
    )
    against = forms.ModelChoiceField(
        Check.objects.none(), label="Earlier check, for repeatability", required=False, empty_label="none"
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        newest = Check.objects.order_by("-made_at").values_list("pk", flat=True)[:60]
        checks = Check.objects.filter(pk__in=list(newest)).select_related("mode")
        field: Any = self.fields["against"]
        field.queryset = checks.defer("readings", "result", "criteria")
        field.label_from_instance = lambda c: f"{c.title}, {c.made_at:%-d %b %H:%M}"

    def clean(self) -> dict[str, Any]:
        data = super().clean() or {}
        chosen = data.get("tolerances")
        if chosen == "repeatability" and data.get("against") is None:
            self.add_error("against", "Repeatability holds a print to an earlier check: choose which.")
        if (
            chosen not in ("repeatability", "uniformity", None)
            and data.get("aim") is None
            and "aim" not in self.errors
        ):
            self.add_error("aim", "Choose the aim that the print is held to.")
        return data


class FilesForm(OrderForm):
    """Readings from files, on a mode, a printer, a job, or nothing but the aim."""

    mode = forms.ModelChoiceField(PrintMode.objects, label="Print mode", required=False, empty_label="none")
    printer = forms.ModelChoiceField(Printer.objects.all(), required=False, empty_label="none")
    name = forms.CharField(label="Job or name", required=False, max_length=120)
    leave_out = forms.BooleanField(label="Leave out patches that the aim does not hold", required=False)


class StripForm(OrderForm):
    """A control strip to print on a mode."""

    mode = forms.ModelChoiceField(PrintMode.objects.none(), label="Print mode", empty_label=None)
    kind = forms.ChoiceField(label="Control strip", choices=strip_choices)
    page = forms.ChoiceField(label="Sheet", choices=_PAGES)
    method = forms.ChoiceField(label="Read with", choices=[(m.name, m.title) for m in METHODS.values()])
    through = forms.ChoiceField(
        label="Printed through",
        choices=[
            ("profile", "curves and profile, asking for the aim's colours"),
            ("curves", "curves alone, as the strip's own values"),
        ],
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["mode"].queryset = checkable_modes()  # type: ignore[attr-defined]

    def choice(self) -> StripChoice:
        """The strip and how it lies."""
        d = self.cleaned_data
        return StripChoice(d["kind"], d["page"], d["method"], d["through"])


class ScheduleForm(forms.Form):
    """How often a mode is checked, and how."""

    every_days = WholeField(label="Every, days", min_value=1, max_value=366, initial=7)
    aim = forms.ModelChoiceField(
        AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data"), empty_label=None
    )
    tolerances = forms.ChoiceField(label="Tolerance set", choices=tolerance_choices)
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False, initial=True)
    strip = forms.ChoiceField(label="Control strip", choices=strip_choices)


class NewScheduleForm(ScheduleForm):
    """A schedule for a mode that has none."""

    mode = forms.ModelChoiceField(
        PrintMode.objects.exclude(state=PrintMode.State.RETIRED),
        label="Print mode",
        empty_label=None,
    )
    field_order = ["mode"]


class AimForm(forms.Form):
    """A file that becomes an aim."""

    name = forms.CharField(
        required=False,
        max_length=120,
        help_text="Empty: the file's own name. An existing name gets its next edition.",
    )
    source = forms.CharField(required=False, max_length=200, help_text="Where it comes from, for reports.")


# --- tolerance sets ----------------------------------------------------------------------------

_COLUMNS = ("id", "title", "group", "query", "measure", "statistic", "limit", "warning", "weight")


def criteria_from(post: Any) -> list[dict[str, Any]]:
    """Criteria as an editor's table sends them, row by row; empty rows are left out.

    Raises `BadInput` naming the row and the number that is none.
    """
    out = []
    for i in range(200):
        if f"c{i}-title" not in post:
            break
        cell = {name: str(post.get(f"c{i}-{name}", "")).strip() for name in _COLUMNS}
        if not cell["title"] or post.get(f"c{i}-remove"):
            continue
        numbers = {}
        for name in ("limit", "warning", "weight"):
            text = cell[name]
            try:
                numbers[name] = parse_number(text) if text else None
            except BadInput as error:
                raise BadInput(f"row {i + 1}, {name}: {error}") from None
        made = {
            "id": cell["id"] or f"own-{i + 1}",
            "title": cell["title"],
            "group": cell["query"] or cell["group"],
            "measure": cell["measure"],
            "statistic": cell["statistic"],
            "limit": numbers["limit"],
            "warning": numbers["warning"],
        }
        out.append({**made, "weight": 1.0 if numbers["weight"] is None else numbers["weight"]})
    return out


def grades_from(text: str) -> list[dict[str, Any]]:
    """Grades written as ``gold 50, silver 80, bronze 100``: names with the share of the limits they
    reach to.
    """
    out = []
    for part in text.split(","):
        if not part.strip():
            continue
        name, _, number = part.strip().rpartition(" ")
        try:
            out.append({"name": name.strip(), "up_to": float(number.rstrip("%"))})
        except ValueError:
            out.append({"name": "", "up_to": 0})
        if not out[-1]["name"]:
            raise BadInput(
                f"the grade {part.strip()!r} is not understood: write a name and a percent, such as gold 50"
            )
    return out


def editor_choices() -> dict[str, Any]:
    """What an editor of tolerance sets offers."""
    return {
        "groups": list(GROUPS.items()),
        "measures": list(MEASURES.items()),
        "statistics": [*TITLES.items(), ("p90", "90th percentile"), ("p50", "median")],
    }
