from importlib import import_module

from django.apps import AppConfig


class ColoursConfig(AppConfig):
    name = "greyanchor.colours"
    label = "colours"

    def ready(self) -> None:
        from greyanchor.colours.books import on_pass_finished, on_readings_suspect, waiting_prints
        from greyanchor.measuring.models import pass_finished, readings_suspect, readings_wanted

        import_module("greyanchor.colours.tasks")  # so that the worker finds what it does
        pass_finished.connect(on_pass_finished, dispatch_uid="greyanchor.colours")
        readings_suspect.connect(on_readings_suspect, dispatch_uid="greyanchor.colours")
        readings_wanted.connect(waiting_prints, dispatch_uid="greyanchor.colours")
