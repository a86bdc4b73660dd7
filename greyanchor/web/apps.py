from django.apps import AppConfig


class WebConfig(AppConfig):
    name = "greyanchor.web"
    label = "web"
