"""Pages of profiles: the list, one profile's figures, its file, and the lights of the rooms."""

from __future__ import annotations

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET

from greyanchor.core.profiling.gamut import share_inside
from greyanchor.drawing.colours import channel_colour
from greyanchor.drawing.gamuts import neutral_plot, slice_picture
from greyanchor.profiles import queries
from greyanchor.profiles.models import Profile, ProfileWork

SLICES = (85, 70, 55, 40, 25)
#: rows of the neutral axis that its table shows
_NEUTRAL_ROWS = 10
_LISTED = 60


def profile_of(pk: int) -> Profile:
    """A profile without its bytes, or a page that says it is not there."""
    return get_object_or_404(
        Profile.objects.defer("data", "fitted").select_related("created_by", "derived_from"), pk=pk
    )


@require_GET
def profile_list(request: HttpRequest) -> HttpResponse:
    light = Profile.objects.defer("data", "fitted", "boundary", "neutral").select_related("created_by")
    running = ProfileWork.objects.filter(result=None).exclude(state=ProfileWork.State.CANCELLED)
    context = {
        "profiles": light.prefetch_related("modes")[:_LISTED],
        "count": Profile.objects.count(),
        "works": running.select_related("parent", "started_by").defer("readings")[:8],
    }
    return render(request, "profiles/profile_list.html", context)


@require_GET
def profile_page(request: HttpRequest, pk: int) -> HttpResponse:
    profile = profile_of(pk)
    gamut, aim = queries.gamut_of_profile(profile), queries.generic_gamut()
    channels = queries.channels_of(profile)
    flat = len(channels) < 3
    context = {
        "profile": profile,
        "here": "figures",
        "channels": channels,
        "keys": [(c, channel_colour(c)) for c in channels],
        "slices": [] if flat else [slice_picture(gamut, aim, lightness) for lightness in SLICES],
        "inside": share_inside(gamut, aim),
        "neutral": neutral_plot(np.array(profile.neutral), channels),
        "neutral_rows": profile.neutral[:: max(1, len(profile.neutral) // _NEUTRAL_ROWS)],
        "modes": profile.modes.select_related("printer", "media"),
        "waiting": profile.proposals.filter(used_at=None).first(),
    }
    return render(request, "profiles/profile_page.html", context)


@require_GET
def profile_file(request: HttpRequest, pk: int) -> HttpResponse:
    profile = get_object_or_404(Profile, pk=pk)
    headers = {"Content-Disposition": f'attachment; filename="{profile.file_name}"'}
    return HttpResponse(bytes(profile.data), content_type="application/vnd.iccprofile", headers=headers)
