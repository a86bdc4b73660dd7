"""Addresses of profiles."""

from django.urls import path

from greyanchor.profiles import views

urlpatterns = [
    path("<int:pk>/", views.profile_page, name="profile"),
    path("<int:pk>/profile.icc", views.profile_file, name="profile-file"),
]
