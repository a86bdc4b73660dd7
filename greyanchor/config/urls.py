"""All addresses of the application."""

from django.urls import include, path

from greyanchor.api.urls import served

urlpatterns = [
    path("", include("greyanchor.web.urls")),
    path("api/v1/", served),
    path("", include("greyanchor.builds.urls")),
    path("", include("greyanchor.library.urls")),
    path("profiles/", include("greyanchor.profiles.urls")),
    path("", include("greyanchor.measuring.urls")),
    path("checks/", include("greyanchor.checks.urls")),
    path("", include("greyanchor.printroom.urls")),
    path("", include("greyanchor.delivery.urls")),
]
handler403 = "greyanchor.web.views.not_allowed"
handler404 = "greyanchor.web.views.not_found"
handler500 = "greyanchor.web.views.server_error"
