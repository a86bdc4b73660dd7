from importlib import import_module

from django.apps import AppConfig


class ProfilesConfig(AppConfig):
    name = "greyanchor.profiles"
    label = "profiles"

    def ready(self) -> None:
        import_module("greyanchor.profiles.tasks")
