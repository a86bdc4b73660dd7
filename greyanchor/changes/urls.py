"""Addresses of what was swapped and what changed."""

from django.urls import path

from greyanchor.changes import views

urlpatterns = [
    path("machine/<int:pk>/", views.machine_changes, name="swaps"),
    path("machine/<int:pk>/record/", views.swap_record, name="swap-record"),
    path("swap/<int:pk>/take-back/", views.swap_take_back, name="swap-take-back"),
    path("mode/<int:pk>/", views.mode_changes, name="what-changed"),
]
