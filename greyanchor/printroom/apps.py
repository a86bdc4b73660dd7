from django.apps import AppConfig


class PrintroomConfig(AppConfig):
    """The print room."""

    name = "greyanchor.printroom"
    label = "printroom"

    def ready(self) -> None:
        from greyanchor.printroom import tasks

        assert tasks, "loaded so that the worker finds what it does"
