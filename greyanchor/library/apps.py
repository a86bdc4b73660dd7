from importlib import import_module

from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "greyanchor.library"
    label = "library"

    def ready(self) -> None:
        import_module("greyanchor.library.packs.tasks")
        import_module("greyanchor.library.records.hidden")
        import_module("greyanchor.library.packs.storage")
