"""Print modes that print alike: proven on presses whose truth no model sees, through the finished
profiles.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from benchmarks.misreads import random_inks, random_press
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour import rgb_spaces
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling import common_ground as grounds
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_from_model, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.standin import print_and_read
from tests import lcms
from tests.conftest import PrintRoom

SETTINGS = ProfileSettings(Separation(total_ink=3.0), sizes=TableSizes(13, 13, 33, 25, 13))
Pair = tuple[list[PrintRoom], list[ProfileResult], list[grounds.Member]]


def _room(seed: int, inks: Array, overdrive: float) -> PrintRoom:
    press = random_press(np.random.default_rng([seed, 3]), inks, overdrive)
    chart, _ = lay_out(patches.design("ink-limit"), tuple("CMYK"))
    limits = {c: f.limit for c, f in find_limits(print_and_read(chart, press, seed)).items()}
    chart, _ = lay_out(patches.design("linearization", limits=limits), tuple("CMYK"))
    return PrintRoom(press, limits, linearize(print_and_read(chart, press, seed + 1), limits).curves)


@pytest.fixture(scope="module")
def pair() -> Pair:
    """Two machines with the same inks, each with a media of its own."""
    inks = random_inks(np.random.default_rng(515))
    rooms = [_room(31, inks, 1.2), _room(32, inks, 1.38)]
    own = [build_profile(r.read(patches.profile_patches(500, 3.0)), SETTINGS) for r in rooms]
    return rooms, own, [grounds.Member(f"mode {i}", p.model, SETTINGS.separation) for i, p in enumerate(own)]


def _printed(room: PrintRoom, data: bytes, intent: str) -> Array:
    asked = rgb_spaces.rgb_to_lab(grounds.picture_colours(500))
    return room.truth(lcms.lab_to_device(data, asked, intent))


@pytest.mark.slow
def test_pictures_are_alike_after_joining(pair: Pair) -> None:
    rooms, own, members = pair
    ground = grounds.common_ground(members)
    joined = [
        build_from_model(
            p.model, r.read(patches.profile_patches(120, 3.0)), SETTINGS, common=ground.rendering_of(i)
        )
        for i, (r, p) in enumerate(zip(rooms, own))
    ]
    for intent, mean, high in (("perceptual", 0.5, 1.2), ("relative", 0.9, 2.6)):
        before = grounds.apart(*(_printed(r, p.data, intent) for r, p in zip(rooms, own)))
        after = grounds.apart(*(_printed(r, p.data, intent) for r, p in zip(rooms, joined)))
        assert before.mean > 1.0 and after.mean < mean and after.p95 < high, (intent, before, after)
    # the same white on both papers, and no darker than the darker paper needs
    white = [_white(r, p) for r, p in zip(rooms, joined)]
    assert delta_e_2000(*white)[0] < 0.6
    assert abs(ground.white[0] - min(p[0] for p in ground.papers)) < 1.5
    # what it costs is said: somebody gives up gamut, nobody gains any
    kept = ground.kept()
    assert all(0.4 < k <= 1.0 for k in kept) and min(kept) < 0.99
    assert ground.volume <= min(ground.volumes) * 1.01
    # the model says what the press then does
    predicted = [grounds.printed(p.model, _parsed(p.data), grounds.picture_colours(500)) for p in joined]
    assert grounds.apart(*predicted).mean < 0.4


def _parsed(data: bytes):  # type: ignore[no-untyped-def]
    from greyanchor.core.formats import icc

    return icc.loads(data)


def _white(room: PrintRoom, profile: ProfileResult) -> Array:
    return room.truth(lcms.lab_to_device(profile.data, np.array([[100.0, 0.0, 0.0]]), "relative"))


def test_each_may_leave_its_paper_bare(pair: Pair) -> None:
    rooms, own, members = pair
    ground = grounds.common_ground(members, tinted=False)
    small = replace(SETTINGS, sizes=TableSizes(9, 9, 25, 17, 9))
    first = build_from_model(
        own[0].model, rooms[0].read(patches.profile_patches(80, 3.0)), small, common=ground.rendering_of(0)
    )
    assert np.allclose(_white(rooms[0], first), rooms[0].truth(np.zeros((1, 4))), atol=1e-6)
    assert not np.allclose(ground.rendering_of(0).white, ground.rendering_of(1).white)


def test_members_that_cannot_meet_are_named(pair: Pair) -> None:
    _, own, members = pair
    with pytest.raises(BadInput, match="two members"):
        grounds.common_ground(members[:1])
    yellowed = replace(own[1].model, to_xyz=own[1].model.to_xyz * np.array([[1.0, 1.0, 0.55]]))
    with pytest.raises(BadInput, match="mode 1.*cannot meet a white|mode 0.*cannot meet a white"):
        grounds.common_ground([members[0], grounds.Member("mode 1", yellowed, SETTINGS.separation)])
