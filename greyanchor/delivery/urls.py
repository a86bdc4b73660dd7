"""Addresses of deliveries."""

from django.urls import path, re_path

from greyanchor.delivery import views

urlpatterns = [
    path("deliveries/", views.delivery_page, name="deliveries"),
    path("deliveries/folders/add/", views.folder_add, name="delivery-folder-add"),
    path("deliveries/addresses/add/", views.hook_add, name="webhook-add"),
    re_path(
        r"^deliveries/(?P<kind>folder|address)/(?P<pk>\d+)/switch/$", views.switch, name="delivery-switch"
    ),
    re_path(r"^deliveries/(?P<kind>folder|message)/(?P<pk>\d+)/again/$", views.again, name="delivery-again"),
]
