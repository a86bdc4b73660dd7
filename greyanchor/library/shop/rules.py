"""What the shop asks of a release."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.roles import RELEASE, needs
from greyanchor.library.models import ShopRules, StorageRules
from greyanchor.library.records.editing import Outdated, test


def _plain(value: Any) -> str:
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else f"{value:g}"


@needs(RELEASE)
@transaction.atomic
def set_rules(based_on: int, values: dict[str, Any], user: User) -> ShopRules:
    """Change what a release asks for."""
    return _set(ShopRules, based_on, values, user)


@needs(RELEASE)
@transaction.atomic
def set_storage(based_on: int, values: dict[str, Any], user: Any) -> StorageRules:
    """Change for how long things are kept."""
    return _set(StorageRules, based_on, values, user)


def _set(model: Any, based_on: int, values: dict[str, Any], user: Any) -> Any:
    model.objects.get_or_create(pk=1)
    rules = model.objects.select_for_update().get(pk=1)
    if rules.version != based_on:
        raise Outdated("the rules were changed by somebody else; look at them again")
    for name, value in values.items():
        label = str(model._meta.get_field(name).verbose_name).capitalize()
        note(rules, label, _plain(getattr(rules, name)), _plain(value), user)
        setattr(rules, name, value)
    test(rules)
    rules.version += 1
    rules.save()
    return rules
