"""Addresses of builds and restores."""

from django.urls import path, re_path

from greyanchor.bench import views, views_begin, views_calibration, views_refine, views_release, views_restore

_STAGE = r"^builds/(?P<pk>\d+)/(?P<kind>[a-z-]+)/"
_LINEAR = "builds/<int:pk>/linearization/"
urlpatterns = [
    path("builds/new/", views_begin.new_build, name="new-build"),
    path("builds/suggest/", views_begin.suggest, name="build-suggest"),
    path("modes/<int:pk>/evidence/", views_release.mode_evidence, name="mode-evidence"),
    path("modes/<int:pk>/release/", views_release.mode_release, name="mode-release"),
    re_path(
        r"^modes/(?P<pk>\d+)/branch/(?P<purpose>faster|profile|limits)/$", views_begin.branch, name="branch"
    ),
    path("builds/<int:pk>/", views.build_page, name="build"),
    path("builds/<int:pk>/environment/", views_begin.change_environment, name="environment"),
    path("builds/<int:pk>/ink-limits/cost/", views_calibration.limits_cost, name="limits-cost"),
    path("builds/<int:pk>/total-ink/cost/", views_calibration.total_cost, name="total-cost"),
    path(f"{_LINEAR}aim/", views_calibration.stage_tone_aim, name="stage-tone-aim"),
    path(f"{_LINEAR}touch/", views_calibration.stage_touch, name="stage-touch"),
    re_path(
        r"^builds/(?P<pk>\d+)/(?P<kind>linearization|grey-balance)/confirm/$",
        views.stage_confirm,
        name="stage-confirm",
    ),
    path(f"{_LINEAR}match/<str:channel>/", views_calibration.match_page, name="match"),
    re_path(
        r"^builds/(?P<pk>\d+)/linearization/curves\.(?P<ending>csv|json)$",
        views_calibration.stage_curves,
        name="stage-curves",
    ),
    path("builds/<int:pk>/profile/start/", views.profile_start, name="profile-start"),
    path("builds/<int:pk>/profile/attach/", views.profile_attach, name="profile-attach"),
    path("builds/tasks/<int:pk>/", views.task_part, name="task"),
    path("builds/tasks/<int:pk>/cancel/", views.task_cancel, name="task-cancel"),
    re_path(_STAGE + r"lay-out/$", views.stage_lay_out, name="stage-lay-out"),
    re_path(_STAGE + r"plan/$", views.stage_plan, name="stage-plan"),
    re_path(_STAGE + r"part/$", views.stage_part, name="stage-part"),
    re_path(_STAGE + r"print/$", views.stage_print, name="stage-print"),
    re_path(_STAGE + r"read/$", views.stage_read, name="stage-read"),
    re_path(_STAGE + r"upload/$", views.stage_upload, name="stage-upload"),
    re_path(_STAGE + r"accept/$", views.stage_accept, name="stage-accept"),
    re_path(_STAGE + r"skip/$", views.stage_skip, name="stage-skip"),
    re_path(_STAGE + r"inherit/$", views.stage_inherit, name="stage-inherit"),
    re_path(_STAGE + r"redo/$", views.stage_redo, name="stage-redo"),
    re_path(_STAGE + r"marks/$", views_calibration.stage_mark, name="stage-mark"),
    re_path(
        _STAGE + r"picture/(?P<subject>[A-Za-z+]+)\.png$", views_calibration.eye_picture, name="eye-picture"
    ),
    re_path(_STAGE + r"sheets\.(?P<form>tif|pdf|txt)$", views.stage_sheets, name="stage-sheets"),
    path("modes/<int:pk>/refine/", views_refine.refine_start, name="refine-start"),
    path("refinements/<int:pk>/", views_refine.refinement_page, name="refinement"),
    path("refinements/rounds/<int:pk>/", views_refine.round_part, name="refine-round"),
    re_path(
        r"^refinements/(?P<pk>\d+)/(?P<act>print|read|upload|learn|stop|another|use|close)/$",
        views_refine.refinement_act,
        name="refinement-act",
    ),
    path("modes/<int:pk>/restore/", views_restore.restore_start, name="restore-start"),
    path("modes/<int:pk>/baseline-aim/", views_restore.baseline_aim, name="baseline-aim"),
    path("restores/<int:pk>/", views_restore.restore_page, name="restore"),
    re_path(
        r"^restores/(?P<pk>\d+)/(?P<act>print|read|upload|confirm|use|close)/$",
        views_restore.restore_act,
        name="restore-act",
    ),
]
