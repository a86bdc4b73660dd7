"""What browsers are asked beside the page itself: to keep it for nobody else, and to lend it no devices."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse
from django.utils.cache import patch_vary_headers

#: what a page here never needs; instruments are read by the server's drivers
_DEVICES = (
    "accelerometer", "camera", "display-capture", "geolocation", "gyroscope", "hid", "magnetometer",
    "microphone", "midi", "payment", "serial", "usb",
)  # fmt: skip
PERMISSIONS = ", ".join(f"{name}=()" for name in _DEVICES)


class Headers:
    """Adds ``Permissions-Policy`` to every answer, ``Cache-Control`` to those for somebody who is signed in,
    and clears what the browser kept when somebody signs out.

    Pages are asked for again before they are shown again (``no-cache``), and kept by no cache that several
    people share (``private``). A view that says something of its own keeps it.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        before = _name(request)
        response = self.get_response(request)
        response.headers.setdefault("Permissions-Policy", PERMISSIONS)
        if before or _name(request) or request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "private, no-cache")
            patch_vary_headers(response, ["Cookie"])
        if before and not _name(request):
            response.headers["Clear-Site-Data"] = '"cache"'
        return response


def _name(request: HttpRequest) -> str:
    user = getattr(request, "user", None)
    return user.get_username() if user is not None and user.is_authenticated else ""
