"""Releasing a mode outside its log, by its evidence."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from greyanchor.builds.stages.release_evidence import evidence, release
from greyanchor.library.models import PrintMode


@require_GET
def mode_evidence(request: HttpRequest, pk: int) -> HttpResponse:
    """What a release of a mode is based on, and the way to it."""
    mode = get_object_or_404(
        PrintMode.objects.select_related("profile").defer("profile__data", "profile__fitted"), pk=pk
    )
    found = evidence(mode, mode.builds.order_by("-pk").first())
    context = {"mode": mode, "evidence": found, "missing": [e for e in found if not e["ok"]]}
    return render(request, "builds/_evidence.html", context)


@require_POST
def mode_release(request: HttpRequest, pk: int) -> HttpResponse:
    get_object_or_404(PrintMode.objects.only("pk"), pk=pk)
    version = request.POST.get("version", "")
    mode = release(
        pk,
        int(version) if version.isdecimal() else 0,
        request.POST.get("note", "").strip(),
        request.POST.get("exception", "").strip(),
        request.user,
    )
    messages.success(request, f"{mode.name} is released; every operator finds it now.")
    return redirect("mode", pk=pk)
