"""A new media from a small chart and other media with the same inks, held to the press that printed it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from benchmarks.misreads import random_inks, random_press
from greyanchor.cli import main
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.characterization import small_charts, storage
from greyanchor.core.characterization.model import characterize
from greyanchor.core.characterization.proposals import most_helpful
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileSettings, build_like
from greyanchor.core.profiling.rebuild import LIKE, characterization_inside
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import PrintRoom


def _room(press: SimulatedPress, seed: int) -> PrintRoom:
    chart, _ = lay_out(patches.design("ink-limit"), tuple("CMYK"))
    limits = {c: f.limit for c, f in find_limits(print_and_read(chart, press, seed)).items()}
    chart, _ = lay_out(patches.design("linearization", limits=limits), tuple("CMYK"))
    return PrintRoom(press, limits, linearize(print_and_read(chart, press, seed + 1), limits).curves)


def _read(room: PrintRoom, device: Array, seed: int) -> ReadingSet:
    chart, _ = lay_out(device, tuple("CMYK"), shuffle_seed=3)
    return print_and_read(chart, room.press, seed, pipeline=room.curves.apply)


@pytest.fixture(scope="module")
def shop() -> tuple[list[ReadingSet], PrintRoom]:
    """Charts of three media with inks that nothing ships, and a fourth media of which nothing was read."""
    random = np.random.default_rng(88)
    inks = random_inks(random)
    rooms = [_room(random_press(random, inks, 1.3), 100 * k) for k in range(4)]
    others = [_read(r, patches.profile_patches(420, 3.0), 900 + k) for k, r in enumerate(rooms[:3])]
    return others, rooms[3]


@pytest.fixture(scope="module")
def kin(shop: tuple[list[ReadingSet], PrintRoom]) -> small_charts.Kin:
    return small_charts.learn_kin(shop[0], ("Alder", "Birch", "Cedar"))


@pytest.fixture(scope="module")
def small(shop: tuple[list[ReadingSet], PrintRoom], kin: small_charts.Kin) -> ReadingSet:
    return _read(shop[1], small_charts.choose_patches(kin, 100, 3.0), 7)


def test_a_hundred_patches_and_other_media_are_worth_several_hundred(
    shop: tuple[list[ReadingSet], PrintRoom], kin: small_charts.Kin, small: ReadingSet
) -> None:
    """Held to colours that no chart has, on a press that none of them is of."""
    room = shop[1]
    unseen = np.random.default_rng(5).random((2000, 4))
    unseen = unseen[unseen.sum(axis=1) < 2.85]
    truth = room.truth(unseen)

    def off(lab: Array) -> float:
        return float(delta_e_2000(lab, truth).mean())

    model, likeness = small_charts.characterize_like(small, kin, noise=0.1)
    alone = characterize(small, noise=0.1)
    whole = characterize(_read(room, patches.profile_patches(400, 3.0), 8), noise=0.1)
    assert off(model.lab(unseen)) < 0.75 * off(alone.lab(unseen))
    assert off(model.lab(unseen)) < 1.35 * off(whole.lab(unseen))
    assert not likeness.unlike and likeness.warnings(100) == []
    assert likeness.nearest in ("Alder", "Birch", "Cedar")
    # it is kept like any other, and says where it would like to know more
    before, after = small_charts.gain_of_more(kin, model, small.inks(), 60)
    assert 0.02 < after < before < 0.6
    again = storage.from_bytes(storage.to_bytes(model))
    assert again is not None and np.allclose(again.lab(unseen[:50]), model.lab(unseen[:50]), atol=1e-6)
    inks, unsure = most_helpful(model, 10, 3.0)
    assert inks.shape == (10, 4) and unsure.min() > 0.0


def test_inks_as_clear_as_paper_in_some_bands_are_learned_as_well() -> None:
    random = np.random.default_rng(88)
    inks = random_inks(random)
    inks[0, :8] = inks[2, 20:] = 0.0
    *rooms, new = [_room(random_press(random, inks, 1.3), 100 * k) for k in range(3)]
    found = small_charts.learn_kin([
        _read(r, patches.profile_patches(420, 3.0), 900 + k) for k, r in enumerate(rooms)
    ])  # fmt: skip
    chart = _read(new, small_charts.choose_patches(found, 100, 3.0), 7)
    model, likeness = small_charts.characterize_like(chart, found, noise=0.1)
    unseen = _at_random(1000, 4)
    assert delta_e_2000(model.lab(unseen), new.truth(unseen)).mean() < 0.2
    assert likeness.off < 0.4 and not likeness.unlike


def test_the_patches_are_those_where_media_differ(kin: small_charts.Kin) -> None:
    chosen = small_charts.choose_patches(kin, 80, 2.6)
    assert chosen.shape == (80, 4) and chosen.max() <= 1.0 and chosen.sum(axis=1).max() <= 2.6 + 0.002
    assert (chosen.max(axis=1) == 0.0).sum() == 4, "paper, often enough to know its noise"
    for ink in range(4):
        alone = np.delete(chosen, ink, axis=1).max(axis=1) == 0.0
        assert chosen[alone, ink].max() == 1.0 and len(np.unique(chosen[alone, ink])) >= 3
    # better than as many places at random by what stays unknown
    base = kin.media[0]
    pool = _at_random(400, 3)
    known = [small_charts.Known(kin, base, np.vstack([pool, rows])) for rows in (chosen, _at_random(80, 9))]
    for found in known:
        for i in range(400, 480):
            found.read(i)
    assert known[0].unsure()[:400].mean() < known[1].unsure()[:400].mean()
    with pytest.raises(BadInput, match="60 to 500"):
        small_charts.choose_patches(kin, 20, 3.0)


def _at_random(count: int, seed: int) -> Array:
    found = np.random.default_rng(seed).random((4 * count, 4))
    return found[found.sum(axis=1) <= 2.6][:count]


def test_a_profile_says_what_it_was_learned_with(kin: small_charts.Kin, small: ReadingSet) -> None:
    settings = ProfileSettings(Separation(total_ink=3.0), sizes=TableSizes(9, 9, 17, 9, 9))
    result, _ = build_like(small, kin, settings)
    inside = characterization_inside(result_profile(result.data))
    assert inside is not None and inside.meta[LIKE] == "Alder, Birch, Cedar" and len(inside) == len(small)
    assert result.report["held_out"]["mean"] < 0.5


def result_profile(data: bytes):  # type: ignore[no-untyped-def]
    from greyanchor.core.formats import icc

    return icc.loads(data)


def test_media_unlike_all_others_are_said_to_be(
    kin: small_charts.Kin, shop: tuple[list[ReadingSet], PrintRoom]
) -> None:
    room = shop[1]
    odd = replace(room.press, media=replace(room.press.media, spread=2.6, surface=0.06, total_capacity=1.1))
    strange = _read(_room(odd, 50), patches.profile_patches(120, 3.0), 60)
    _, likeness = small_charts.characterize_like(strange, kin)
    assert likeness.unlike and likeness.odd
    text = likeness.warnings(120)[0]
    assert "unlike the others" in text and "several hundred patches more" in text


def test_other_inks_are_refused(
    kin: small_charts.Kin, small: ReadingSet, shop: tuple[list[ReadingSet], PrintRoom]
) -> None:
    foreign = replace(small, channels=("C", "M", "Y", "O"))
    with pytest.raises(BadInput, match="only media with the same inks"):
        small_charts.characterize_like(foreign, kin)
    with pytest.raises(BadInput, match="Birch.*only media with the same inks"):
        small_charts.learn_kin(
            [shop[0][0], replace(shop[0][1], channels=("C", "M", "Y", "O"))], ("Alder", "Birch")
        )
    # cyan and magenta changed over: the names are the same, the inks are not
    crossed = replace(small, device=small.values()[:, [1, 0, 2, 3]])
    with pytest.raises(BadInput, match="the inks are not theirs"):
        small_charts.characterize_like(crossed, kin)
    with pytest.raises(BadInput, match="no other media"):
        small_charts.learn_kin([])
    with pytest.raises(BadInput, match="Alder.*teach too little"):
        small_charts.learn_kin([small], ("Alder",))
    with pytest.raises(BadInput, match="read it with spectra"):
        small_charts.characterize_like(replace(small, spectra=None, measured_lab=small.lab()), kin)


def test_the_command_takes_the_others_after_like(
    shop: tuple[list[ReadingSet], PrintRoom], small: ReadingSet, tmp_path: Path
) -> None:
    names = []
    for i, readings in enumerate(shop[0][:2]):
        names.append(str(tmp_path / f"other{i}.txt"))
        Path(names[-1]).write_text(cgats.dumps(readings))
    chart, out = tmp_path / "small.txt", tmp_path / "out.icc"
    chart.write_text(cgats.dumps(small))
    done = CliRunner().invoke(main, ["profile", str(chart), "--like", *names, "-o", str(out)])
    assert done.exit_code == 0 and out.exists(), done.output
    assert "learned with 2 other media" in done.output
    again = CliRunner().invoke(main, ["rebuild", str(out), "-o", str(tmp_path / "again.icc")])
    assert again.exit_code == 0 and "learned with other media" in again.output
    wrong = CliRunner().invoke(main, ["profile", str(chart), "--like", str(chart), "-o", str(out)])
    assert wrong.exit_code == 2 and "teach too little" in wrong.output
