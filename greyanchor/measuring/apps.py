from importlib import import_module

from django.apps import AppConfig


class MeasuringConfig(AppConfig):
    name = "greyanchor.measuring"
    label = "measuring"

    def ready(self) -> None:
        import_module("greyanchor.measuring.uploads")
        import_module("greyanchor.measuring.storage")
