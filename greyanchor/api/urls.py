"""Addresses for programs."""

from django.urls import path

from greyanchor.api import views
from greyanchor.api.door import door
from greyanchor.api.pages import api_document

urlpatterns = [
    path("openapi.json", api_document, name="api-document"),
    path("modes", door(GET=views.mode_list), name="api-modes"),
    path("modes/<int:pk>", door(GET=views.mode), name="api-mode"),
    path("modes/<int:pk>/profile.icc", door(GET=views.mode_profile), name="api-mode-profile"),
    path("modes/<int:pk>/pack.zip", door(GET=views.mode_pack), name="api-mode-pack"),
    path("packs", door(POST=views.pack_receive), name="api-packs"),
    path("packs/<int:pk>", door(GET=views.pack_import), name="api-import"),
    path("checks", door(GET=views.check_list), name="api-checks"),
    path("checks/<int:pk>", door(GET=views.check), name="api-check"),
    path("charts", door(GET=views.open_charts), name="api-charts"),
    path("charts/<int:pk>/chart.txt", door(GET=views.chart_file), name="api-chart"),
    path("readings", door(POST=views.readings), name="api-readings"),
]
