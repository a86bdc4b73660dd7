"""Forms of the library."""

from __future__ import annotations

from django import forms

from greyanchor.library.models import Media


class MediaForm(forms.ModelForm):
    """The facts of a media that people correct."""

    version = forms.IntegerField(widget=forms.HiddenInput)
    why = forms.CharField(label="Why", max_length=100, help_text="kept in the history")

    class Meta:
        model = Media
        fields = ["media_class", "maker", "weight", "thickness", "width_mm", "brightener", "travels_backwards", "unreadable", "dry_minutes", "heat", "vacuum", "notes"]  # fmt: skip
        widgets = {"notes": forms.Textarea(attrs={"rows": 3})}

    def facts(self) -> dict[str, object]:
        """Cleaned values of the media alone."""
        return {name: self.cleaned_data[name] for name in self.Meta.fields}
