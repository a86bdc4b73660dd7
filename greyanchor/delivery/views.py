"""Where things are delivered to, and what became of each delivery."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import RELEASE, may, takes
from greyanchor.core.errors import BadInput
from greyanchor.delivery import attempts, folders, webhooks
from greyanchor.delivery.models import EVENTS, FILES, DeliveryFolder, FolderDelivery, Message, Webhook
from greyanchor.library.models import Printer

_KINDS: dict[str, Any] = {"folder": FolderDelivery, "message": Message}


@require_GET
def delivery_page(request: HttpRequest) -> HttpResponse:
    """Folders and addresses, and what went to them lately."""
    may_release = may(request.user, RELEASE)
    context = {
        "folders": [
            (f, [FILES[k] for k in f.files], folders.path_of(f))
            for f in DeliveryFolder.objects.select_related("printer")
        ],
        "hooks": [(h, [EVENTS[e] for e in h.events if e in EVENTS]) for h in Webhook.objects.all()],
        "delivered": FolderDelivery.objects.select_related("folder", "edition__mode")[:24],
        "sent": Message.objects.select_related("webhook")[:24],
        "files": FILES.items(),
        "events": EVENTS.items(),
        "printers": Printer.objects.only("name"),
        "home": settings.DELIVERIES,
        "may_release": may_release,
    }
    return render(request, "delivery/deliveries.html", context)


@takes(RELEASE)
@require_POST
def folder_add(request: HttpRequest) -> HttpResponse:
    """A folder that released modes are put into."""
    sent = request.POST
    user: Any = request.user
    number = sent.get("printer", "")
    printer = get_object_or_404(Printer, pk=int(number)) if number.isdecimal() else None
    try:
        made = folders.make(
            sent.get("name", ""), sent.get("folder", ""), sent.getlist("files"), user, printer
        )
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        messages.success(request, f"Released modes are put into {folders.path_of(made)}.")
    return redirect("deliveries")


@takes(RELEASE)
@require_POST
def hook_add(request: HttpRequest) -> HttpResponse:
    """An address that hears of events; its secret is shown this once."""
    sent = request.POST
    user: Any = request.user
    try:
        made = webhooks.make(sent.get("name", ""), sent.get("address", ""), sent.getlist("events"), user)
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        messages.success(
            request, f"{made.name} hears of it from now on. Its secret, shown this once: {made.secret}"
        )
    return redirect("deliveries")


@takes(RELEASE)
@require_POST
def switch(request: HttpRequest, kind: str, pk: int) -> HttpResponse:
    """Deliver to a folder or an address, or stop it."""
    if kind == "folder":
        folders.switch(get_object_or_404(DeliveryFolder, pk=pk))
    else:
        webhooks.switch(get_object_or_404(Webhook, pk=pk))
    return redirect("deliveries")


@takes(RELEASE)
@require_POST
def again(request: HttpRequest, kind: str, pk: int) -> HttpResponse:
    """Try a delivery again at once."""
    attempts.again(get_object_or_404(_KINDS[kind], pk=pk))
    return redirect("deliveries")
