"""Addresses of readings, charts and files."""

from django.urls import path, re_path

from greyanchor.measuring import views

_ACTS = "read|white|undo|go|skip|corner|sheet"
urlpatterns = [
    path("readings/<int:pk>/", views.reading_page, name="reading"),
    re_path(rf"^readings/(?P<pk>\d+)/(?P<act>{_ACTS})/$", views.reading_act, name="reading-act"),
    path("readings/<int:pk>/reopen/", views.pass_reopen, name="pass-reopen"),
    path("readings/<int:pk>/leave-out/", views.pass_drop, name="pass-drop"),
    path("readings/<int:pk>/withdraw/", views.pass_withdraw, name="pass-withdraw"),
    re_path(r"^readings/(?P<pk>\d+)/readings\.(?P<ending>txt|cxf|csv)$", views.pass_file, name="pass-file"),
    path("prints/<int:pk>/use-suspect/", views.print_use_suspect, name="print-use-suspect"),
    path("prints/<int:pk>/dry/", views.print_dry, name="print-dry"),
    path("charts/<int:pk>/sheet-<int:sheet>.svg", views.chart_sheet, name="chart-sheet"),
    path("files/", views.file_page, name="files"),
    path("files/<int:pk>/", views.upload_page, name="upload"),
    path("files/<int:pk>/part/", views.upload_part, name="upload-part"),
    path("files/<int:pk>/use/", views.upload_use, name="upload-use"),
]
