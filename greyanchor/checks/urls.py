"""Addresses of checks."""

from django.urls import path, re_path

from greyanchor.checks import views

urlpatterns = [
    path("", views.check_list, name="checks"),
    path("<int:pk>/", views.check_page, name="check"),
    re_path(r"^(?P<pk>\d+)/(?:readings|patches)\.(?P<kind>txt|csv)$", views.check_file, name="check-file"),
]
