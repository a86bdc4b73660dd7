"""Addresses of checks."""

from django.urls import path

from greyanchor.checks import views

urlpatterns = [
    path("", views.check_list, name="checks"),
    path("predict/<int:pk>/", views.prediction_page, name="prediction"),
    path("<int:pk>/", views.check_page, name="check"),
    path("<int:pk>/readings.txt", views.check_readings, name="check-readings"),
    path("<int:pk>/patches.csv", views.check_patches, name="check-patches"),
]
