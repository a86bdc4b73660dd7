"""Addresses of builds."""

from django.urls import path, re_path

from greyanchor.bench import views

_STAGE = r"^(?P<pk>\d+)/(?P<kind>[a-z-]+)/"
urlpatterns = [
    path("new/", views.new_build, name="new-build"),
    path("<int:pk>/", views.build_page, name="build"),
    path("<int:pk>/linearization/aim/", views.stage_tone_aim, name="stage-tone-aim"),
    path("<int:pk>/linearization/curves.csv", views.stage_curves, name="stage-curves"),
    path("<int:pk>/profile/start/", views.profile_start, name="profile-start"),
    path("tasks/<int:pk>/", views.task_part, name="task"),
    path("tasks/<int:pk>/cancel/", views.task_cancel, name="task-cancel"),
    re_path(_STAGE + r"lay-out/$", views.stage_lay_out, name="stage-lay-out"),
    re_path(_STAGE + r"part/$", views.stage_part, name="stage-part"),
    re_path(_STAGE + r"print/$", views.stage_print, name="stage-print"),
    re_path(_STAGE + r"read/$", views.stage_read, name="stage-read"),
    re_path(_STAGE + r"upload/$", views.stage_upload, name="stage-upload"),
    re_path(_STAGE + r"accept/$", views.stage_accept, name="stage-accept"),
    re_path(_STAGE + r"redo/$", views.stage_redo, name="stage-redo"),
    re_path(_STAGE + r"sheets\.(?P<form>tif|pdf|txt)$", views.stage_sheets, name="stage-sheets"),
]
