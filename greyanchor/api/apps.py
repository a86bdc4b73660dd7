from django.apps import AppConfig


class ApiConfig(AppConfig):
    name = "greyanchor.api"
    label = "api"
