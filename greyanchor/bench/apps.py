from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "greyanchor.bench"
    label = "bench"

    def ready(self) -> None:
        from greyanchor.bench import charts, refining, restoring, waiting
        from greyanchor.measuring.models import pass_finished, readings_wanted

        pass_finished.connect(charts.on_pass_finished, dispatch_uid="bench stages")
        pass_finished.connect(restoring.on_pass_finished, dispatch_uid="bench restores")
        pass_finished.connect(refining.on_pass_finished, dispatch_uid="bench refinements")
        readings_wanted.connect(waiting.of_stages, dispatch_uid="bench stages")
        readings_wanted.connect(waiting.of_confirmations, dispatch_uid="bench confirmations")
        readings_wanted.connect(waiting.of_restores, dispatch_uid="bench restores")
        readings_wanted.connect(waiting.of_confirmed_restores, dispatch_uid="bench confirmed restores")
        readings_wanted.connect(waiting.of_rounds, dispatch_uid="bench refinements")
