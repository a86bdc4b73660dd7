from django.apps import AppConfig


class UnattendedConfig(AppConfig):
    """Unattended work."""

    name = "greyanchor.unattended"
    label = "unattended"
    default_auto_field = "django.db.models.BigAutoField"
