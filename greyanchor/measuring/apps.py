from django.apps import AppConfig


class MeasuringConfig(AppConfig):
    name = "greyanchor.measuring"
    label = "measuring"
