"""Pages of profiles."""

from __future__ import annotations

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET

from greyanchor.core.profiling.gamut import share_inside
from greyanchor.drawing.gamuts import neutral_plot, slice_picture
from greyanchor.profiles import queries
from greyanchor.profiles.models import Profile

SLICES = (85, 70, 55, 40, 25)


@require_GET
def profile_page(request: HttpRequest, pk: int) -> HttpResponse:
    profile = get_object_or_404(Profile.objects.defer("data").select_related("created_by"), pk=pk)
    gamut, aim = queries.gamut_of_profile(profile), queries.northlight_gamut()
    neutral = np.array(profile.neutral)
    context = {
        "profile": profile,
        "slices": [slice_picture(gamut, aim, lightness) for lightness in SLICES],
        "inside": share_inside(gamut, aim),
        "neutral": neutral_plot(neutral),
        "neutral_rows": profile.neutral[::6],
        "modes": profile.modes.select_related("printer", "media").defer("curves"),
    }
    return render(request, "profiles/profile_page.html", context)


@require_GET
def profile_file(request: HttpRequest, pk: int) -> HttpResponse:
    profile = get_object_or_404(Profile, pk=pk)
    headers = {"Content-Disposition": f'attachment; filename="{profile.file_name}"'}
    return HttpResponse(bytes(profile.data), content_type="application/vnd.iccprofile", headers=headers)
