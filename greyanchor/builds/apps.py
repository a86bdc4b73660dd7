from django.apps import AppConfig


class BenchConfig(AppConfig):
    name = "greyanchor.builds"
    label = "bench"

    def ready(self) -> None:
        from greyanchor.builds import charts, open_charts, refinements, restores, tasks
        from greyanchor.measuring.models import pass_finished, readings_wanted

        assert tasks
        pass_finished.connect(charts.on_pass_finished, dispatch_uid="bench stages")
        pass_finished.connect(restores.on_pass_finished, dispatch_uid="bench restores")
        pass_finished.connect(refinements.on_pass_finished, dispatch_uid="bench refinements")
        readings_wanted.connect(open_charts.of_stages, dispatch_uid="bench stages")
        readings_wanted.connect(open_charts.of_confirmations, dispatch_uid="bench confirmations")
        readings_wanted.connect(open_charts.of_restores, dispatch_uid="bench restores")
        readings_wanted.connect(open_charts.of_confirmed_restores, dispatch_uid="bench confirmed restores")
        readings_wanted.connect(open_charts.of_rounds, dispatch_uid="bench refinements")
