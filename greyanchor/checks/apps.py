from django.apps import AppConfig


class ChecksConfig(AppConfig):
    name = "greyanchor.checks"
    label = "checks"

    def ready(self) -> None:
        from greyanchor.checks.proving import on_pass_finished
        from greyanchor.measuring.models import pass_finished

        pass_finished.connect(on_pass_finished, dispatch_uid="greyanchor.checks")
