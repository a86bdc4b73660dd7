from django.apps import AppConfig


class ProfilesConfig(AppConfig):
    name = "greyanchor.profiles"
    label = "profiles"
