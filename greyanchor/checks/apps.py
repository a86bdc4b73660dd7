from django.apps import AppConfig


class ChecksConfig(AppConfig):
    name = "greyanchor.checks"
    label = "checks"
