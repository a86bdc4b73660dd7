"""Forms of the shop page."""

from __future__ import annotations

from django import forms

from greyanchor.accounts.models import AccessRules
from greyanchor.library.models import ShopRules


class RulesForm(forms.ModelForm):
    version = forms.IntegerField(widget=forms.HiddenInput)

    class Meta:
        model = ShopRules
        fields = ["double_reading", "profile_error", "check_days", "trial_print"]


class AccessForm(forms.ModelForm):
    version = forms.IntegerField(widget=forms.HiddenInput)

    class Meta:
        model = AccessRules
        fields = ["idle_hours", "longest_days", "second_factor"]
        widgets = {"second_factor": forms.Select(attrs={"class": "form-select"})}


class PersonForm(forms.Form):
    """A new account."""

    username = forms.CharField(label="Name to sign in with", max_length=150)
    first = forms.CharField(label="First name", max_length=150, required=False)
    last = forms.CharField(label="Last name", max_length=150, required=False)
    password = forms.CharField(widget=forms.PasswordInput, max_length=200, help_text="ten letters or more")
