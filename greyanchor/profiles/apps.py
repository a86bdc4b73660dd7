"""The application of profiles and aims."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class ProfilesConfig(AppConfig):
    name = "greyanchor.profiles"
    label = "profiles"

    def ready(self) -> None:
        import_module("greyanchor.profiles.tasks")
        post_migrate.connect(_aims_are_there, sender=self)


def _aims_are_there(using: str, **_: Any) -> None:
    """Every shop begins with the generic aims."""
    aims = import_module("greyanchor.profiles.aims")
    aims.ensure_generic_aims(using)
