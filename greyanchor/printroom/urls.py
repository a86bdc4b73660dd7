"""Addresses of the print room."""

from django.urls import path, re_path

from greyanchor.printroom.views import folders, ledger, light_table, machines, pictures, runs, trials, wall

urlpatterns = [
    path("artwork/", wall.artwork_list, name="artwork"),
    path("artwork/add/", wall.artwork_add, name="artwork-add"),
    path("artwork/part/", wall.artwork_part, name="artwork-part"),
    path("artwork/<int:pk>/small.jpg", pictures.thumbnail, name="artwork-small"),
    path("artwork/<int:pk>/file", wall.artwork_file, name="artwork-file"),
    path("artwork/<int:pk>/modes/", wall.artwork_modes, name="artwork-modes"),
    path("artwork/<int:pk>/job/", wall.artwork_job, name="artwork-job"),
    path("artwork/<int:pk>/again/", wall.artwork_again, name="artwork-again"),
    path("jobs/", wall.job_list, name="jobs"),
    path("jobs/<int:pk>/", light_table.job_page, name="job"),
    path("jobs/<int:pk>/outcome/", light_table.job_outcome, name="job-outcome"),
    path("jobs/<int:pk>/modes/", light_table.job_modes, name="job-modes"),
    path("jobs/<int:pk>/change/", light_table.job_change, name="job-change"),
    re_path(r"^jobs/(?P<pk>\d+)/(?P<way>undo|redo)/$", light_table.job_undo, name="job-undo"),
    path("jobs/<int:pk>/piece/", light_table.job_piece, name="job-piece"),
    path("jobs/<int:pk>/prepare/", light_table.job_prepare, name="job-prepare"),
    re_path(
        r"^jobs/(?P<pk>\d+)/tile/(?P<kind>[a-z]+)/(?P<level>\d{1,2})/(?P<x>\d{1,4})/(?P<y>\d{1,4})\.png$",
        pictures.tile,
        name="job-tile",
    ),
    path("jobs/<int:pk>/loupe.png", pictures.loupe, name="job-loupe"),
    path("print-files/<int:pk>/", light_table.print_file_page, name="print-file"),
    path("print-files/<int:pk>/part/", light_table.print_file_part, name="print-file-part"),
    re_path(
        r"^print-files/(?P<pk>\d+)/(?P<act>stop|go-on)/$", light_table.print_file_act, name="print-file-act"
    ),
    path("print-files/<int:pk>/planes.tif", pictures.print_file, name="print-file-file"),
    re_path(
        r"^print-files/(?P<pk>\d+)/(?P<which>art|print)\.png$",
        pictures.print_picture,
        name="print-file-picture",
    ),
    path("print-files/<int:pk>/print/", machines.print_order, name="print-order"),
    path("modes/<int:pk>/trial/", trials.mode_trial, name="mode-trial"),
    path("prints/<int:pk>/faults/", trials.print_fault, name="print-fault"),
    path("prints/<int:pk>/judge/", trials.print_judge, name="print-judge"),
    path("modes/<int:pk>/before-after/", ledger.mode_before_after, name="mode-before-after"),
    path("modes/<int:pk>/nudges/", light_table.mode_nudges, name="mode-nudges"),
    path("runs/", runs.run_list, name="runs"),
    path("runs/make/", runs.run_make, name="run-make"),
    path("runs/<int:pk>/", runs.run_page, name="run"),
    path("runs/<int:pk>/change/", runs.run_change, name="run-change"),
    path("runs/<int:pk>/places/", runs.run_places, name="run-places"),
    path("runs/<int:pk>/jobs/", runs.run_jobs, name="run-jobs"),
    re_path(
        r"^runs/(?P<pk>\d+)/(?P<act>undo|redo|again|copy|remove|wait|stop|prepare)/$",
        runs.run_act,
        name="run-act",
    ),
    re_path(
        r"^runs/(?P<pk>\d+)/pieces/(?P<name>[\d.]+)-(?P<turned>[01])\.png$", runs.run_piece, name="run-piece"
    ),
    re_path(r"^runs/(?P<pk>\d+)/cut\.(?P<form>svg|dxf|plt)$", runs.run_cut, name="run-cut"),
    path("prints/<int:pk>/rest/", runs.print_rest, name="print-rest"),
    path("machines/", machines.machine_list, name="machines"),
    path("machines/<int:pk>/", machines.machine_page, name="machine"),
    re_path(r"^machines/(?P<pk>\d+)/(?P<way>pause|go-on)/$", machines.machine_pause, name="machine-pause"),
    path("machines/<int:pk>/part/", machines.machine_part, name="machine-part"),
    path("prints/", ledger.ledger, name="prints"),
    path("prints/used/", ledger.usage, name="prints-used"),
    path("prints/prints.csv", ledger.prints_csv, name="prints-csv"),
    path("prints/<int:pk>/", ledger.print_page, name="print"),
    path("prints/<int:pk>/seen.png", ledger.print_seen, name="print-seen"),
    re_path(
        r"^prints/(?P<pk>\d+)/(?P<act>go|hold|cancel|again|earlier|later|before)/$",
        machines.print_act,
        name="print-act",
    ),
    path("hot-folders/", folders.folder_list, name="hot-folders"),
    path("hot-folders/add/", folders.folder_add, name="hot-folder-add"),
    path("hot-folders/<int:pk>/switch/", folders.folder_switch, name="hot-folder-switch"),
]
