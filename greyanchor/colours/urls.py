"""Addresses of colours and lights."""

from django.urls import path, re_path

from greyanchor.colours.views import books, lights, parting, spot, spots

urlpatterns = [
    path("spots/", spots.spot_list, name="spots"),
    path("spots/import/", spots.spot_import, name="spot-import"),
    path("spots/save/", spots.spot_save, name="spot-save"),
    path("spots/book/", spots.spot_library, name="spot-library"),
    path("spots/nearest/", spots.spot_nearest, name="spot-nearest"),
    path("spots/alike/", spots.spot_twins, name="spot-twins"),
    path("spots/find-all/", spots.spot_find_all, name="spot-find-all"),
    path("spots/into-mode/", spots.spot_into_mode, name="spot-into-mode"),
    path("spots/book/<int:pk>.<slug:ending>", spots.spot_export, name="spot-export"),
    path("spots/<int:pk>/", spot.spot_page, name="spot"),
    path("spots/<int:pk>/remove/", spots.spot_remove, name="spot-remove"),
    path("spots/<int:pk>/choose/", spot.spot_choose, name="spot-choose"),
    path("books/", books.book_list, name="books"),
    path("books/new/", books.book_new, name="book-new"),
    path("books/<int:pk>/", books.book_page, name="book"),
    re_path(r"^books/(?P<pk>\d+)/(?P<act>print|read|upload)/$", books.book_act, name="book-act"),
    re_path(r"^books/(?P<pk>\d+)/sheets\.(?P<ending>tif|pdf|txt)$", books.book_sheets, name="book-sheets"),
    path("books/<int:pk>/learn/", books.book_learn, name="book-learn"),
    path("books/<int:pk>/again/", books.book_again, name="book-again"),
    path("books/<int:pk>/into-mode/", books.book_into_mode, name="book-into-mode"),
    path("books/<int:pk>/keep/", books.book_keep, name="book-keep"),
    path("metamerism/", parting.parting_page, name="metamerism"),
    path("lights/", lights.light_list, name="lights"),
    path("lights/<int:pk>/", lights.light_place, name="light-place"),
    path("lights/<int:pk>/dark/", lights.light_zero, name="light-zero"),
    path("lights/<int:pk>/measure/<int:spot>/", lights.light_measure, name="light-measure"),
    path("lights/<int:pk>/file/", lights.light_upload, name="light-upload"),
    path("lights/<int:pk>/lamps/", lights.light_lamps, name="light-lamps"),
    path("lights/<int:pk>/limits/", lights.light_limits, name="light-limits"),
    path("lights/<int:pk>/simulated/", lights.light_control, name="light-control"),
    path("lights/measured/<int:pk>.csv", lights.light_file_of, name="light-file"),
]
