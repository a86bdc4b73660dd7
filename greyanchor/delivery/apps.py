from django.apps import AppConfig


class DeliveryConfig(AppConfig):
    """Deliveries."""

    name = "greyanchor.delivery"
    label = "delivery"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from greyanchor.delivery import events

        events.connect()
