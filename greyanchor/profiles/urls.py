"""Addresses of profiles."""

from django.urls import path, re_path

from greyanchor.profiles import views, views_look, views_make

urlpatterns = [
    path("", views.profile_list, name="profiles"),
    path("new/", views_make.new_profile, name="new-profile"),
    path("lights/", views.lights, name="lights"),
    path("making/<int:pk>/", views_make.work_page, name="profile-work"),
    path("making/<int:pk>/part/", views_make.work_part, name="profile-work-part"),
    path("making/<int:pk>/cancel/", views_make.work_cancel, name="profile-work-cancel"),
    path("<int:pk>/", views.profile_page, name="profile"),
    path("<int:pk>/profile.icc", views.profile_file, name="profile-file"),
    path("<int:pk>/separation/", views_make.separation_page, name="separation"),
    path("<int:pk>/separation/preview/", views_make.separation_preview, name="separation-preview"),
    path("<int:pk>/rebuild/", views_make.rebuild, name="rebuild"),
    path("<int:pk>/proposals/", views_make.propose, name="propose"),
    path("<int:pk>/gamut/", views_look.gamut_page, name="gamut"),
    path("<int:pk>/gamut/cut/", views_look.gamut_cut, name="gamut-cut"),
    path("<int:pk>/gamut/solids.json", views_look.gamut_solids, name="gamut-solids"),
    path("<int:pk>/errors/", views_look.errors_page, name="profile-errors"),
    path("<int:pk>/proof/", views_look.proof_page, name="proof"),
    re_path(
        r"^(?P<pk>\d+)/proof/(?P<what>form|ramps)-(?P<intent>[a-z]+)\.png$",
        views_look.proof_picture,
        name="proof-picture",
    ),
]
