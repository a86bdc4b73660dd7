"""Figures of spot colours and of lights: recipes before and after one read book, out of gamut, thousands at
once, and lights beside colour-science.
"""

from __future__ import annotations

import time

import numpy as np

from benchmarks.report import report
from greyanchor.core.characterization.model import ForwardModel, characterize
from greyanchor.core.charts import patches
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.colour.lighting import colour_temperature
from greyanchor.core.colour.rendering_index import fidelity, special_indices
from greyanchor.core.profiling.recipe_choices import choices
from greyanchor.core.profiling.recipe_learning import Rounds, next_recipes
from greyanchor.core.profiling.recipes import find_recipes, within_sums
from greyanchor.core.profiling.separation import Separation
from tests.conftest import PrintRoom, make_room
from tests.core.test_lighting import LAMPS, colour, colour_fidelity_index_ANSIIESTM3018, lamp

_COLOURS = 200
_TOTAL = 3.0
_GOALS = (
    ("temperature", 0.5, "%"),
    ("distance from the locus", 0.0005, "uv"),
    ("Ra", 0.5, ""),
    ("R9", 0.5, ""),
    ("Rf", 0.5, ""),
    ("Rg", 0.5, ""),
)
#: Lab that no press prints
_FAR = (
    *((46, 80, 60), (55, 82, -10), (30, 20, -75), (60, -80, 20)),
    *((92, -8, 115), (70, 40, 90), (40, -30, -50)),
)


def everything() -> None:
    """Every figure of spot colours."""
    for name in ("petrel-44", "petrel-44/tideline-matt-140"):
        print(f"\nSpot colours on {name}, from a profile chart of 1,200 patches")
        room = make_room(name)
        model = characterize(room.read(patches.profile_patches(1200, _TOTAL)))
        separation = Separation(total_ink=_TOTAL)
        _learned(room, model, separation)
        _out_of_gamut(model, separation)
    _many(model, separation)
    _lights()


def _lights() -> None:
    """Twenty lights beside colour-science: the largest error of each figure."""
    print("\nViewing lights beside colour-science, the largest error of 20")
    worst = np.zeros(6)
    for name in LAMPS:
        light = lamp(name)
        same = colour.SpectralDistribution(light.seen, np.arange(380, 781))
        uv = colour.UCS_to_uv(colour.XYZ_to_UCS(colour.sd_to_XYZ(same)))
        kelvin, distance = colour.temperature.uv_to_CCT_Ohno2013(uv)
        cri = colour.colour_rendering_index(same, additional_data=True)
        tm30 = colour_fidelity_index_ANSIIESTM3018(same, additional_data=True)
        here, special, found = (
            colour_temperature(light.seen),
            special_indices(light.seen),
            fidelity(light.seen),
        )
        errors = (
            100.0 * (here[0] / kelvin - 1.0),
            here[1] - distance,
            special[:8].mean() - cri.Q_a,
            special[8] - cri.Q_as[9].Q_a,
            found.rf - tm30.R_f,
            found.rg - tm30.R_g,
        )
        worst = np.maximum(worst, np.abs(errors))
    for (title, goal, unit), value in zip(_GOALS, worst):
        report(title, float(value), goal, unit)


def _inside(room: PrintRoom, separation: Separation, count: int) -> Array:
    """Lab (n, 3) of colours that this press prints: random inks with chroma, as brand colours have."""
    random = np.random.default_rng(77)
    inks = random.random((count, 4)) * (1.0, 1.0, 1.0, 0.5) * (random.random((count, 4)) < 0.7)
    sets, most = separation.sums(tuple("CMYK"))
    return room.truth(within_sums(inks, sets, 0.9 * most))


def _learned(room: PrintRoom, model: ForwardModel, separation: Separation) -> None:
    asked = _inside(room, separation, _COLOURS)
    first = find_recipes(model, separation, asked).inks
    book = room.read(first, seed=301, shuffle=None).lab()
    before = delta_e_2000(asked, book)
    print(f"  the first book had {before.mean():.3f} dE00 in the mean")
    rounds = Rounds(first, book)
    began = time.perf_counter()
    better = next_recipes(model, separation, asked, first, book, rounds)
    print(f"  the next recipes of {_COLOURS} took {time.perf_counter() - began:.1f} s")
    after = delta_e_2000(asked, room.truth(better.recipes.inks))
    again = delta_e_2000(asked, room.read(better.recipes.inks, seed=302, shuffle=None).lab())
    report("after one read book, mean", float(again.mean()), 0.35, "dE00")
    report("after one read book, 95th", float(np.percentile(again, 95)), 0.8, "dE00")
    print(f"  without the noise of the readings they lie {after.mean():.3f} dE00 off")


def _out_of_gamut(model: ForwardModel, separation: Separation) -> None:
    """The nearest that is found, beside the nearest of a search over very many inks."""
    asked = np.array(
        [
            [46, 80, 60],
            [55, 82, -10],
            [30, 20, -75],
            [60, -80, 20],
            [92, -8, 115],
            [70, 40, 90],
            [40, -30, -50],
        ],
        dtype=float,
    )
    found = find_recipes(model, separation, asked)
    over = []
    for lab, miss in zip(asked, found.misses):
        over.append(float(miss) - _brute(model, separation, lab))
    report("out of gamut, over brute force, worst", max(over), 0.02, "dE00")


def _brute(model: ForwardModel, separation: Separation, lab: Array) -> float:
    random = np.random.default_rng(5)
    sets, most = separation.sums(tuple("CMYK"))
    best = random.random((200_000, 4))
    width = 0.5
    least, held = np.inf, best[0]
    for _ in range(12):
        tried = within_sums(np.clip(best, 0.0, 1.0), sets, most)
        away = delta_e_2000(lab, model.lab(tried))
        at = int(away.argmin())
        if away[at] < least:
            least, held = float(away[at]), tried[at]
        width *= 0.55
        best = held + width * random.standard_normal((20_000, 4))
    return least


def _many(model: ForwardModel, separation: Separation) -> None:
    random = np.random.default_rng(8)
    asked = np.column_stack(
        [random.uniform(15, 95, 5000), random.uniform(-70, 75, 5000), random.uniform(-60, 90, 5000)]
    )
    began = time.perf_counter()
    find_recipes(model, separation, asked)
    report("recipes of 5,000 colours", time.perf_counter() - began, 30.0, "s")
    began = time.perf_counter()
    made = choices(model, separation, np.array([45.0, 20.0, 10.0]))
    print(f"  {len(made)} choices of one colour took {time.perf_counter() - began:.1f} s")


if __name__ == "__main__":
    everything()
