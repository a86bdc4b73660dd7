"""Addresses of profiles."""

from django.urls import path, re_path

from greyanchor.profiles.views import look, make, profiles

urlpatterns = [
    path("", profiles.profile_list, name="profiles"),
    path("new/", make.new_profile, name="new-profile"),
    path("making/<int:pk>/", make.work_page, name="profile-work"),
    path("making/<int:pk>/part/", make.work_part, name="profile-work-part"),
    path("making/<int:pk>/cancel/", make.work_cancel, name="profile-work-cancel"),
    path("<int:pk>/", profiles.profile_page, name="profile"),
    path("<int:pk>/profile.icc", profiles.profile_file, name="profile-file"),
    path("<int:pk>/separation/", make.separation_page, name="separation"),
    path("<int:pk>/separation/preview/", make.separation_preview, name="separation-preview"),
    path("<int:pk>/rebuild/", make.rebuild, name="rebuild"),
    path("<int:pk>/proposals/", make.propose, name="propose"),
    path("<int:pk>/gamut/", look.gamut_page, name="gamut"),
    path("<int:pk>/gamut/cut/", look.gamut_cut, name="gamut-cut"),
    path("<int:pk>/gamut/solids.json", look.gamut_solids, name="gamut-solids"),
    path("<int:pk>/errors/", look.errors_page, name="profile-errors"),
    path("<int:pk>/proof/", look.proof_page, name="proof"),
    re_path(
        r"^(?P<pk>\d+)/proof/(?P<what>form|ramps)-(?P<intent>[a-z]+)\.png$",
        look.proof_picture,
        name="proof-picture",
    ),
]
