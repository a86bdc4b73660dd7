from django.apps import AppConfig


class LibraryConfig(AppConfig):
    name = "greyanchor.library"
    label = "library"
