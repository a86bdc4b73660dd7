"""What other media let expect of curves, shown behind those that were found."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse

from greyanchor.builds.models import Build
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.library.models import Media, PrintMode
from tests.conftest import PrintRoom
from tests.web.builds.conftest import careful_hands  # noqa: F401  hands that never slip
from tests.web.conftest import read_stage


def _mode(build: Build, name: str, curves: CurveSet, limits: dict[str, float]) -> PrintMode:
    own = build.mode
    media = Media.objects.create(
        name=f"{name} 230", media_class=own.media.media_class, maker="W", weight=230, thickness=240,
        width_mm=1118, brightener="faint",
    )  # fmt: skip
    return PrintMode.objects.create(
        name=name, printer=own.printer, ink_set=own.ink_set, media=media, environment=own.environment,
        environment_hash=name, state="released", limits=limits, curves=curves.to_csv(), total_ink=290.0,
    )  # fmt: skip


def test_curves_stand_before_what_media_like_it_let_expect(
    up_to: Callable[[str], Build], room: PrintRoom, client: Client, user: User
) -> None:
    build = up_to("linearization")
    page = reverse("build", args=[build.pk])
    limits = {c: 100.0 * v for c, v in room.limits.items()}
    _mode(build, "Fathom", room.curves, limits)
    read_stage(build, "linearization", user)
    alone = client.get(page).content.decode()
    assert "plot-band" not in alone and "Faint bands" not in alone, "one mode says nothing"
    _mode(build, "Kelp", room.curves, limits)
    seen = client.get(page).content.decode()
    assert "Faint bands" in seen and "Kelp" in seen and seen.count('class="plot-band"') == 4
    assert "is not what was expected" not in seen
    # modes that were given other curves altogether: the ink or the media is another
    even = np.linspace(0.0, 1.0, room.curves.outputs.shape[1])
    bent = room.curves.outputs.copy()
    bent[0] = bent[0, -1] * even**0.5
    for mode in PrintMode.objects.filter(name__in=("Fathom", "Kelp")):
        mode.curves = CurveSet(room.curves.channels, bent).to_csv()
        mode.save()
    odd = client.get(page).content.decode()
    assert (
        "<strong>C is not what was expected:</strong>" in odd and odd.count("is not what was expected") == 1
    )
