"""Fields of forms that several parts of the application use."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number


class NumberBox(forms.TextInput):
    """A box for a number. It is one of text, as browsers read ``45,5`` in a box of numbers as 455."""

    def __init__(self, attrs: dict[str, Any] | None = None) -> None:
        super().__init__({"inputmode": "decimal", "autocomplete": "off", "data-number": "", **(attrs or {})})


def _attributes(widget: forms.Widget, least: Any, most: Any, step: str) -> dict[str, Any]:
    if not isinstance(widget, NumberBox):
        return {}
    found = {"data-step": step}
    if least is not None:
        found["data-min"] = f"{least:g}"
    if most is not None:
        found["data-max"] = f"{most:g}"
    if least is not None and most is not None:
        found["title"] = f"{least:g} to {most:g}"
    return found


def _parsed(value: Any) -> Any:
    if not isinstance(value, str) or not value.strip():
        return value
    try:
        return parse_number(value)
    except BadInput as error:
        raise ValidationError(error.sentence, code="invalid") from error


class NumberField(forms.FloatField):
    """A number with decimals; comma and point are the same."""

    widget = NumberBox

    def to_python(self, value: Any) -> float | None:
        return super().to_python(_parsed(value))

    def widget_attrs(self, widget: forms.Widget) -> dict[str, Any]:
        return super().widget_attrs(widget) | _attributes(widget, self.min_value, self.max_value, "0.5")


class WholeField(forms.IntegerField):
    """A whole number."""

    widget = NumberBox

    def to_python(self, value: Any) -> int | None:
        found = _parsed(value)
        if isinstance(found, float):
            if found != int(found):
                raise ValidationError("Write a whole number.", code="invalid")
            found = int(found)
        return super().to_python(found)

    def widget_attrs(self, widget: forms.Widget) -> dict[str, Any]:
        return super().widget_attrs(widget) | _attributes(widget, self.min_value, self.max_value, "1")
