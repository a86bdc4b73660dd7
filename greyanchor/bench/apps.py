from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "greyanchor.bench"
    label = "bench"

    def ready(self) -> None:
        from greyanchor.bench import services
        from greyanchor.measuring.models import pass_finished

        pass_finished.connect(services.on_pass_finished, dispatch_uid="bench")
