"""Addresses of builds and restores."""

from django.urls import path, re_path

from greyanchor.builds.views import builds, calibration, refinements, release, restores, start

_STAGE = r"^builds/(?P<pk>\d+)/(?P<kind>[a-z-]+)/"
_LINEAR = "builds/<int:pk>/linearization/"
urlpatterns = [
    path("builds/new/", start.new_build, name="new-build"),
    path("builds/suggest/", start.suggest, name="build-suggest"),
    path("modes/<int:pk>/evidence/", release.mode_evidence, name="mode-evidence"),
    path("modes/<int:pk>/release/", release.mode_release, name="mode-release"),
    re_path(r"^modes/(?P<pk>\d+)/branch/(?P<purpose>faster|profile|limits)/$", start.branch, name="branch"),
    path("builds/<int:pk>/", builds.build_page, name="build"),
    path("builds/<int:pk>/environment/", start.change_environment, name="environment"),
    path("builds/<int:pk>/ink-limits/cost/", calibration.limits_cost, name="limits-cost"),
    path("builds/<int:pk>/total-ink/cost/", calibration.total_cost, name="total-cost"),
    path(f"{_LINEAR}aim/", calibration.stage_tone_aim, name="stage-tone-aim"),
    path(f"{_LINEAR}touch/", calibration.stage_touch, name="stage-touch"),
    re_path(_STAGE + r"confirm/$", builds.stage_confirm, name="stage-confirm"),
    path(f"{_LINEAR}match/<str:channel>/", calibration.match_page, name="match"),
    re_path(_STAGE + r"curves\.(?P<ending>csv|json)$", calibration.stage_curves, name="stage-curves"),
    path("builds/<int:pk>/profile/start/", builds.profile_start, name="profile-start"),
    path("builds/<int:pk>/profile/attach/", builds.profile_attach, name="profile-attach"),
    path("builds/tasks/<int:pk>/", builds.task_part, name="task"),
    path("builds/tasks/<int:pk>/cancel/", builds.task_cancel, name="task-cancel"),
    re_path(_STAGE + r"lay-out/$", builds.stage_lay_out, name="stage-lay-out"),
    re_path(_STAGE + r"plan/$", builds.stage_plan, name="stage-plan"),
    re_path(_STAGE + r"part/$", builds.stage_part, name="stage-part"),
    re_path(_STAGE + r"print/$", builds.stage_print, name="stage-print"),
    re_path(_STAGE + r"read/$", builds.stage_read, name="stage-read"),
    re_path(_STAGE + r"upload/$", builds.stage_upload, name="stage-upload"),
    re_path(_STAGE + r"accept/$", builds.stage_accept, name="stage-accept"),
    re_path(_STAGE + r"skip/$", builds.stage_skip, name="stage-skip"),
    re_path(_STAGE + r"inherit/$", builds.stage_inherit, name="stage-inherit"),
    re_path(_STAGE + r"redo/$", builds.stage_redo, name="stage-redo"),
    re_path(_STAGE + r"choose/$", calibration.stage_choose, name="stage-choose"),
    re_path(_STAGE + r"marks/$", calibration.stage_mark, name="stage-mark"),
    re_path(
        _STAGE + r"picture/(?P<subject>[A-Za-z0-9+]+)\.png$", calibration.eye_picture, name="eye-picture"
    ),
    re_path(_STAGE + r"sheets\.(?P<form>tif|pdf|txt)$", builds.stage_sheets, name="stage-sheets"),
    path("modes/<int:pk>/refine/", refinements.refine_start, name="refine-start"),
    path("refinements/<int:pk>/", refinements.refinement_page, name="refinement"),
    path("refinements/rounds/<int:pk>/", refinements.round_part, name="refine-round"),
    re_path(
        r"^refinements/(?P<pk>\d+)/(?P<act>print|read|upload|learn|stop|another|use|close)/$",
        refinements.refinement_act,
        name="refinement-act",
    ),
    path("modes/<int:pk>/restore/", restores.restore_start, name="restore-start"),
    path("modes/<int:pk>/baseline-aim/", restores.baseline_aim, name="baseline-aim"),
    path("restores/<int:pk>/", restores.restore_page, name="restore"),
    re_path(
        r"^restores/(?P<pk>\d+)/(?P<act>print|read|upload|confirm|use|close)/$",
        restores.restore_act,
        name="restore-act",
    ),
]
