"""No record is saved with a character that cannot be seen: two names that look alike are alike."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import models
from django.db.models.signals import pre_save
from django.dispatch import receiver

from greyanchor.core.errors import BadInput
from greyanchor.core.plain_text import hidden_in


@receiver(pre_save)
def refuse_hidden(sender: Any, instance: models.Model, raw: bool, update_fields: Any, **_: Any) -> None:
    """Refuse controls and marks that turn the direction of writing in names and other short texts, and NUL
    in long ones, which not every database keeps.
    """
    if raw or not (sender is User or sender.__module__.startswith("greyanchor.")):
        return
    for field in sender._meta.concrete_fields:
        if update_fields is not None and field.name not in update_fields:
            continue
        value = instance.__dict__.get(field.attname)
        if not isinstance(value, str):
            continue
        if isinstance(field, models.TextField):
            hidden = "U+0000" if "\0" in value else ""
        else:
            hidden = hidden_in(value)
        if hidden:
            label = field.verbose_name
            raise BadInput(f"the {label} holds a character that cannot be seen, {hidden}; take it out")
