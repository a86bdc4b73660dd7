from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "greyanchor.demo"
    label = "demo"
