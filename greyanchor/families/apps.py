from django.apps import AppConfig


class FamiliesConfig(AppConfig):
    """Families of print modes."""

    name = "greyanchor.families"
    label = "families"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from greyanchor.families import tasks

        assert tasks, "loaded so that the worker finds what it does"
