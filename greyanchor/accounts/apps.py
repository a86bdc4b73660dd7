from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "greyanchor.accounts"
    label = "accounts"
