from django.apps import AppConfig


class ChecksConfig(AppConfig):
    name = "greyanchor.checks"
    label = "checks"

    def ready(self) -> None:
        from greyanchor.checks.strip_prints import on_pass_finished, waiting_prints
        from greyanchor.measuring.models import pass_finished, readings_wanted

        pass_finished.connect(on_pass_finished, dispatch_uid="greyanchor.checks")
        readings_wanted.connect(waiting_prints, dispatch_uid="greyanchor.checks")
