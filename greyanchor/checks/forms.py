"""Forms of checks."""

from __future__ import annotations

from django import forms

from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.profiles.models import AimRecord


class PredictionForm(forms.Form):
    """What a print would be held to."""

    aim = forms.ModelChoiceField(AimRecord.objects.defer("data"), empty_label=None)
    tolerances = forms.ChoiceField(choices=[(t.id, t.title) for t in SHIPPED.values()])
    corrected = forms.BooleanField(label="Substrate-corrected aim", required=False)
