from django.apps import AppConfig


class ChangesConfig(AppConfig):
    """What was swapped, and what changed."""

    name = "greyanchor.changes"
    label = "changes"
    default_auto_field = "django.db.models.BigAutoField"
