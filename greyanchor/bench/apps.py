from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "greyanchor.bench"
    label = "bench"

    def ready(self) -> None:
        from greyanchor.bench import charts, refining, restoring
        from greyanchor.measuring.models import pass_finished

        pass_finished.connect(charts.on_pass_finished, dispatch_uid="bench stages")
        pass_finished.connect(restoring.on_pass_finished, dispatch_uid="bench restores")
        pass_finished.connect(refining.on_pass_finished, dispatch_uid="bench refinements")
