"""Forms of unattended work."""

from __future__ import annotations

from typing import Any

from django import forms

from greyanchor.checks.tolerance_sets import tolerance_choices
from greyanchor.fields import NumberField, WholeField
from greyanchor.profiles.models import AimRecord

#: what a whole strip can be held to
_AIMS = AimRecord.objects.exclude(kind=AimRecord.Kind.SPOTS).defer("data")


class WishesForm(forms.Form):
    """What a person would choose on the way of a build."""

    patches = WholeField(label="Patches of the profile chart", min_value=60, max_value=5000, initial=1000)
    aim = forms.ModelChoiceField(_AIMS, label="Check it against", empty_label=None)
    tolerances = forms.ChoiceField(label="Under", choices=tolerance_choices)
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False, initial=True)
    eye = forms.BooleanField(label="Wait for my eye before total ink is accepted", required=False)
    keeps = NumberField(label="Limits keep at least, %", min_value=50, max_value=100, initial=85)

    def wishes(self) -> dict[str, Any]:
        """As they are kept."""
        return {**self.cleaned_data, "aim": self.cleaned_data["aim"].pk}


class RuleForm(forms.Form):
    """How a mode is kept true."""

    version = forms.IntegerField(widget=forms.HiddenInput, initial=0)
    is_on = forms.BooleanField(label="Keep it true", required=False, initial=True)
    every_days = WholeField(label="Read the short chart every, days", min_value=1, max_value=90, initial=1)
    from_hour = WholeField(label="From this hour of the day on", min_value=0, max_value=23, initial=2)
    tolerance = NumberField(label="Drift tolerated, dE00 mean", min_value=0.3, max_value=10, initial=1.5)
    share_percent = NumberField(label="Restore from, % of that", min_value=10, max_value=100, initial=50)
    aim = forms.ModelChoiceField(
        _AIMS, label="Check afterwards against", required=False, empty_label="no check afterwards"
    )
    tolerances = forms.ChoiceField(label="Under", choices=tolerance_choices, required=False)

    def values(self) -> dict[str, Any]:
        """As they are kept."""
        found = {k: v for k, v in self.cleaned_data.items() if k != "version"}
        return {**found, "tolerances": found["tolerances"] if found["aim"] else ""}
