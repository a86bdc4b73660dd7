"""Addresses of the frame."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from greyanchor.web import first, setting_up, views

urlpatterns = [
    path("", views.start, name="start"),
    path("first-account/<str:token>/", first.first_account, name="first-account"),
    path("set-up/", setting_up.set_up_page, name="set-up"),
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
]
