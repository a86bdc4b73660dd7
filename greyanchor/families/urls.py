"""Addresses of families."""

from django.urls import path, re_path

from greyanchor.families import views

urlpatterns = [
    path("", views.families_page, name="families"),
    path("new/", views.family_new, name="family-new"),
    path("<int:pk>/", views.family_page, name="family"),
    path("job/<int:pk>/", views.sisters, name="family-sisters"),
    path("<int:pk>/progress/", views.family_work, name="family-work"),
    re_path(r"^(?P<pk>\d+)/(?P<act>join|leave|compute|use|end)/$", views.family_act, name="family-act"),
]
