"""Addresses of checks."""

from django.urls import path, re_path

from greyanchor.checks.views import aims, checks, comparison, prints, strips, tolerances, trends

urlpatterns = [
    path("", checks.check_list, name="checks"),
    path("new/", prints.check_new, name="check-new"),
    path("strip/", prints.check_strip, name="check-strip"),
    path("prints/<int:pk>/", prints.check_print_page, name="check-print"),
    re_path(
        r"^prints/(?P<pk>\d+)/(?P<act>print|read|upload|reopen)/$",
        prints.check_print_act,
        name="check-print-act",
    ),
    path("predict/<int:pk>/", checks.prediction_page, name="prediction"),
    path("<int:pk>/", checks.check_page, name="check"),
    path("<int:pk>/diagnosis/", checks.check_diagnosis, name="check-diagnosis"),
    path("<int:pk>/report/", checks.check_report, name="check-report"),
    path("<int:pk>/report.pdf", checks.check_report_pdf, name="check-report-pdf"),
    path("<int:pk>/label.pdf", checks.check_label, name="check-label"),
    path("<int:pk>/check.json", checks.check_json, name="check-json"),
    path("<int:pk>/readings.txt", checks.check_readings, name="check-readings"),
    path("<int:pk>/patches.csv", checks.check_patches, name="check-patches"),
    path("<int:pk>/sign/", checks.check_sign, name="check-sign"),
    path("<int:pk>/amend/", checks.check_amend, name="check-amend"),
    path("<int:pk>/as-aim/", checks.check_as_aim, name="check-as-aim"),
    path("tolerances/", tolerances.set_list, name="sets"),
    path("tolerances/import/", tolerances.set_import, name="set-import"),
    path("tolerances/<str:key>/", tolerances.set_page, name="set"),
    path("tolerances/<str:key>/copy/", tolerances.set_copy, name="set-copy"),
    path("tolerances/<str:key>/save/", tolerances.set_save, name="set-save"),
    path("tolerances/<str:key>/remove/", tolerances.set_remove, name="set-remove"),
    path("tolerances/<str:key>/set.json", tolerances.set_export, name="set-export"),
    path("aims/", aims.aim_list, name="aims"),
    path("aims/add/", aims.aim_add, name="aim-add"),
    path("aims/<int:pk>/", aims.aim_page, name="aim"),
    path("aims/<int:pk>/file", aims.aim_file, name="aim-file"),
    path("strips/", strips.strip_list, name="strips"),
    path("strips/add/", strips.strip_add, name="strip-add"),
    re_path(
        r"^strips/(?P<kind>[a-z]+(:\d+)?)/strip\.(?P<form>tif|pdf|txt)$",
        strips.strip_file,
        name="strip-file",
    ),
    path("trends/", trends.trend_page, name="trends"),
    path("trends/series.csv", trends.trend_csv, name="trend-csv"),
    path("schedules/", trends.schedule_page, name="schedules"),
    path("schedules/save/", trends.schedule_save, name="schedule-save"),
    path("schedules/<int:pk>/remove/", trends.schedule_remove, name="schedule-remove"),
    path("compare/", comparison.compare_page, name="compare"),
    path("match/", comparison.match_page, name="match-modes"),
]
