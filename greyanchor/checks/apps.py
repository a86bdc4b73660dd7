from django.apps import AppConfig


class ChecksConfig(AppConfig):
    name = "greyanchor.checks"
    label = "checks"

    def ready(self) -> None:
        from greyanchor.checks.strip_prints import (
            evidence_of_checks,
            on_evidence_withdrawn,
            on_pass_finished,
            on_readings_suspect,
            waiting_prints,
        )
        from greyanchor.measuring.models import (
            evidence_uses,
            evidence_withdrawn,
            pass_finished,
            readings_suspect,
            readings_wanted,
        )

        pass_finished.connect(on_pass_finished, dispatch_uid="greyanchor.checks")
        readings_suspect.connect(on_readings_suspect, dispatch_uid="greyanchor.checks")
        evidence_uses.connect(evidence_of_checks, dispatch_uid="greyanchor.checks")
        evidence_withdrawn.connect(on_evidence_withdrawn, dispatch_uid="greyanchor.checks")
        readings_wanted.connect(waiting_prints, dispatch_uid="greyanchor.checks")
