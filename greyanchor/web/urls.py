"""Addresses of the frame."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from greyanchor.web import account, first, passwords, setting_up, storage, views

urlpatterns = [
    path("", views.start, name="start"),
    path("healthz", views.alive, name="alive"),
    path("readyz", views.ready, name="ready-to-serve"),
    path("metrics", views.figures, name="metrics"),
    path("first-account/<str:token>/", first.first_account, name="first-account"),
    path("set-up/", setting_up.set_up_page, name="set-up"),
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("shop/storage/", storage.storage_page, name="storage"),
    path("shop/storage/tidy/", storage.storage_tidy, name="storage-tidy"),
    path("sign-in/code/", account.code, name="sign-in-code"),
    path("sign-in/forgotten/", account.forgotten, name="forgotten"),
    path("sign-in/provider/", account.ToProvider.as_view(), name="sign-in-provider"),
    path("sign-in/back/", account.FromProvider.as_view(), name="sign-in-back"),
    path("account/", account.account, name="account"),
    path("account/factor/on/", account.factor_on, name="factor-on"),
    path("account/factor/off/", account.factor_off, name="factor-off"),
    path("account/mail/", account.mail_set, name="mail-set"),
    path("password/", passwords.password, name="password"),
    path("new-password/<str:token>/", passwords.new_password, name="new-password"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
]
