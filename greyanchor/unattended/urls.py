"""Addresses of unattended work."""

from django.urls import path, re_path

from greyanchor.unattended import views

urlpatterns = [
    path("", views.overview, name="unattended"),
    path("now/", views.begin_now, name="nights-now"),
    path("<int:pk>/", views.work_page, name="unattended-work"),
    re_path(r"^(?P<pk>\d+)/(?P<act>go-on|end)/$", views.work_act, name="unattended-act"),
    path("build/<int:pk>/", views.build_alone, name="unattended-build"),
    path("night-rule/<int:pk>/", views.night_rule, name="night-rule"),
    path("night-rule/<int:pk>/now/", views.night_now, name="night-now"),
]
