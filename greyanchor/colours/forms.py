"""Forms of spot colours, books and lights."""

from __future__ import annotations

from typing import Any

from django import forms

from greyanchor.accounts.models import Site
from greyanchor.checks.forms import checkable_modes
from greyanchor.colours.books import BookLayout
from greyanchor.colours.models import LightPlace, SwatchBook
from greyanchor.core.charts.layout import METHODS
from greyanchor.core.charts.swatches import Steps
from greyanchor.core.colour.viewing import CONDITIONS, CRITERIA
from greyanchor.fields import NumberField, WholeField
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import SpotLibrary


def faults_of(form: forms.Form) -> str:
    """What is wrong with a form, in one sentence."""
    return "; ".join(f"{form[k].label}: {' '.join(map(str, v))}" for k, v in form.errors.items())


class SpotForm(forms.Form):
    """One spot colour by hand."""

    name = forms.CharField(max_length=80)
    lightness = NumberField(label="L*", min_value=0, max_value=110)
    a = NumberField(label="a*", min_value=-160, max_value=160)
    b = NumberField(label="b*", min_value=-160, max_value=160)
    library = forms.ModelChoiceField(
        SpotLibrary.objects.all(), label="Book", required=False, empty_label="the first"
    )


class BookForm(forms.Form):
    """How a swatch book is laid out."""

    title = forms.CharField(label="Title", max_length=120, required=False)
    kind = forms.ChoiceField(choices=SwatchBook.Kind.choices[:2], label="As")
    page = forms.CharField(label="Page: a4, a3, a2 or WxH mm", initial="a4", max_length=20)
    method = forms.ChoiceField(choices=[(k, m.title) for k, m in METHODS.items()], label="Read by")
    patch = NumberField(label="Patch, mm", min_value=7, max_value=40, required=False)
    with_white = forms.BooleanField(label="White under everything", required=False)
    modes = forms.ModelMultipleChoiceField(
        PrintMode.objects.none(),
        label="On the print modes",
        error_messages={"required": "Choose a print mode."},
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        field = self.fields["modes"]
        assert isinstance(field, forms.ModelMultipleChoiceField)
        field.queryset = checkable_modes().exclude(profile=None).defer("profile__data", "profile__fitted")

    def layout(self, kind: str = "", steps: Steps | None = None) -> BookLayout:
        """As the service takes it."""
        d = self.cleaned_data
        return BookLayout(
            kind or d["kind"], d["page"], d["method"], d["patch"], d["with_white"], steps or Steps()
        )


class PlaceForm(forms.Form):
    """A place that prints are looked at in."""

    name = forms.CharField(label="Place", max_length=80)
    site = forms.ModelChoiceField(Site.objects.all(), empty_label=None)
    condition = forms.ChoiceField(label="Held to", choices=[(c.key, c.title) for c in CONDITIONS.values()])
    every_days = WholeField(label="Measured every, days", min_value=1, max_value=3650, initial=90)


class LimitsForm(forms.Form):
    """What a place is held to. A limit that is left out is not judged."""

    source = forms.CharField(label="After", max_length=120)
    every_days = WholeField(label="Measured every, days", min_value=1, max_value=3650)
    version = forms.IntegerField(widget=forms.HiddenInput)

    def __init__(self, data: Any = None, *, place: LightPlace) -> None:
        initial = {"source": place.source, "every_days": place.every_days, "version": place.version}
        initial |= {f"limit_{name}": limit for name, limit in place.limits.items()}
        super().__init__(data, initial=initial)
        for name, title in CRITERIA.items():
            self.fields[f"limit_{name}"] = NumberField(
                label=title[:1].upper() + title[1:], min_value=0.0, max_value=1e6, required=False
            )

    @property
    def limits(self) -> dict[str, float]:
        """Those that were entered."""
        found = {name: self.cleaned_data[f"limit_{name}"] for name in CRITERIA}
        return {name: value for name, value in found.items() if value is not None}
