from django.apps import AppConfig


class BuildsConfig(AppConfig):
    """Builds keep the label of their tables from before."""

    name = "greyanchor.builds"
    label = "bench"

    def ready(self) -> None:
        from greyanchor.builds import tasks
        from greyanchor.builds.evidence import charts, open_charts
        from greyanchor.builds.lifecycle import withdrawal
        from greyanchor.builds.maintenance import refinements, restores
        from greyanchor.builds.stages import registry
        from greyanchor.measuring.models import (
            evidence_uses,
            evidence_withdrawn,
            pass_finished,
            readings_suspect,
            readings_wanted,
        )

        assert tasks, "loaded so that the worker finds what it does"
        registry.discover("greyanchor.builds.stages")
        pass_finished.connect(charts.on_pass_finished, dispatch_uid="stages")
        pass_finished.connect(restores.on_pass_finished, dispatch_uid="restores")
        pass_finished.connect(refinements.on_pass_finished, dispatch_uid="refinements")
        readings_suspect.connect(charts.on_readings_suspect, dispatch_uid="stages")
        readings_suspect.connect(restores.on_readings_suspect, dispatch_uid="restores")
        evidence_uses.connect(withdrawal.evidence_of_builds, dispatch_uid="builds")
        evidence_withdrawn.connect(withdrawal.on_evidence_withdrawn, dispatch_uid="builds")
        readings_wanted.connect(open_charts.of_stages, dispatch_uid="stages")
        readings_wanted.connect(open_charts.of_confirmations, dispatch_uid="confirmations")
        readings_wanted.connect(open_charts.of_restores, dispatch_uid="restores")
        readings_wanted.connect(open_charts.of_confirmed_restores, dispatch_uid="confirmed restores")
        readings_wanted.connect(open_charts.of_rounds, dispatch_uid="refinements")
