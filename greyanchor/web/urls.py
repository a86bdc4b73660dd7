"""Addresses of the frame."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from greyanchor.web import views

urlpatterns = [
    path("", views.start, name="start"),
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
]
