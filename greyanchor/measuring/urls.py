"""Addresses of readings and charts."""

from django.urls import path, re_path

from greyanchor.measuring import views

urlpatterns = [
    path("readings/<int:pk>/", views.reading_page, name="reading"),
    re_path(r"^readings/(?P<pk>\d+)/(?P<act>read|white|undo|go)/$", views.reading_act, name="reading-act"),
    path("readings/<int:pk>/reopen/", views.pass_reopen, name="pass-reopen"),
    path("readings/<int:pk>/readings.txt", views.pass_file, name="pass-file"),
    path("charts/<int:pk>/sheet-<int:sheet>.svg", views.chart_sheet, name="chart-sheet"),
]
