"""Addresses of the library."""

from django.urls import path, re_path

from greyanchor.library import views

urlpatterns = [
    path("modes/", views.mode_list, name="modes"),
    path("modes/<int:pk>/", views.mode_page, name="mode"),
    path("modes/<int:pk>/retire/", views.mode_retire, name="mode-retire"),
    re_path(r"^modes/(?P<pk>\d+)/curves\.(?P<ending>csv|json)$", views.mode_curves, name="mode-curves"),
    path("printers/", views.printer_list, name="printers"),
    path("printers/<int:pk>/", views.printer_page, name="printer"),
    path("printers/<int:pk>/stand-in/", views.printer_standin, name="printer-standin"),
    path("media-classes/", views.media_classes, name="media-classes"),
    path("media/", views.media_list, name="media-list"),
    path("media/<int:pk>/", views.media_page, name="media"),
]
