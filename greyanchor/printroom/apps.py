from django.apps import AppConfig


class PrintroomConfig(AppConfig):
    """The print room."""

    name = "greyanchor.printroom"
    label = "printroom"

    def ready(self) -> None:
        from greyanchor.builds.stages.release_evidence import trial_of
        from greyanchor.printroom import storage, tasks, trials

        assert tasks and storage, "loaded so that the worker finds what it does"
        trial_of.connect(trials.on_trial_asked, dispatch_uid="trial prints")
