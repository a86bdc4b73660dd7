"""Hot folders."""

from __future__ import annotations

from django.conf import settings
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.accounts.roles import MAKE, takes
from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number
from greyanchor.core.separation.link import INTENTS
from greyanchor.library.models import PrintMode
from greyanchor.printroom import hot_folders
from greyanchor.printroom.models import Arrived, HotFolder, Then


@require_GET
def folder_list(request: HttpRequest) -> HttpResponse:
    """Folders, what came into them, and a form for another."""
    context = {
        "folders": HotFolder.objects.select_related("mode"),
        "arrived": Arrived.objects.select_related("folder", "artwork", "job")[:40],
        "modes": PrintMode.objects.filter(state=PrintMode.State.RELEASED, profile__isnull=False).only("name"),
        "kinds": [(k, hot_folders.NAMES[k]) for k in hot_folders.KINDS],
        "intents": INTENTS,
        "thens": Then.choices,
        "home": settings.HOT_FOLDERS,
    }
    return render(request, "printroom/hot_folders.html", context)


@takes(MAKE)
@require_POST
def folder_add(request: HttpRequest) -> HttpResponse:
    """A folder with its standing defaults."""
    sent = request.POST
    try:
        mode = (
            get_object_or_404(PrintMode, pk=int(sent["mode"])) if sent.get("mode", "").isdecimal() else None
        )
        width, margin = sent.get("width_mm", "").strip(), sent.get("margin_mm", "").strip()
        if sent.get("intent", "relative") not in INTENTS:
            raise BadInput("choose one of the rendering intents")
        made = hot_folders.make(
            sent.get("name", "").strip(),
            sent.get("folder", ""),
            request.user,  # type: ignore[arg-type]
            mode=mode,
            kinds=" ".join(k for k in sent.getlist("kinds") if k in hot_folders.KINDS),
            margin_mm=parse_number(margin) if margin else 0.0,
            width_mm=parse_number(width) if width else None,
            intent=sent.get("intent", "relative"),
            keep_black="keep_black" in sent,
            go="go" in sent,
            then=sent["then"] if sent.get("then") in Then.values else Then.PREPARE,
        )
    except BadInput as error:
        messages.error(request, error.sentence)
    else:
        messages.success(request, f"{made.name} is watched: {hot_folders.path_of(made)}")
    return redirect("hot-folders")


@takes(MAKE)
@require_POST
def folder_switch(request: HttpRequest, pk: int) -> HttpResponse:
    """Watch a folder, or stop watching it."""
    folder = get_object_or_404(HotFolder, pk=pk)
    folder.active = not folder.active
    folder.save(update_fields=["active"])
    return redirect("hot-folders")
