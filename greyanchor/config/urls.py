"""All addresses of the application."""

from django.urls import include, path
from django.views.generic import RedirectView

from greyanchor.api.urls import served

urlpatterns = [
    path("", include("greyanchor.web.urls")),
    path("api/v1/", served),
    path("", include("greyanchor.builds.urls")),
    path("", include("greyanchor.library.urls")),
    # where these pages were before they had a place of their own
    path("checks/spots/", RedirectView.as_view(pattern_name="spots", query_string=True)),
    path("profiles/lights/", RedirectView.as_view(pattern_name="lights")),
    path("profiles/", include("greyanchor.profiles.urls")),
    path("", include("greyanchor.measuring.urls")),
    path("checks/", include("greyanchor.checks.urls")),
    path("colours/", include("greyanchor.colours.urls")),
    path("", include("greyanchor.printroom.urls")),
    path("", include("greyanchor.delivery.urls")),
    path("families/", include("greyanchor.families.urls")),
    path("changes/", include("greyanchor.changes.urls")),
    path("unattended/", include("greyanchor.unattended.urls")),
]
handler403 = "greyanchor.web.views.not_allowed"
handler404 = "greyanchor.web.views.not_found"
handler500 = "greyanchor.web.views.server_error"
