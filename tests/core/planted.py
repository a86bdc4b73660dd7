"""Presses with one planted fault each, and what a strip printed on them measures."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileSettings, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.standin import Condition, print_and_read
from greyanchor.core.verification import aims
from greyanchor.core.verification.aims import strip_through_profile, substrate_corrected
from greyanchor.core.verification.explanations import Strip
from tests.conftest import CMYK, PrintRoom, make_room

FAULTS = (
    "paper",
    "channel",
    "dot gain",
    "grey balance",
    "stale",
    "rows",
    "sheets",
    "profile",
    "condition",
    "white",
)
ROOMS = ("petrel-44", "petrel-44/fathom-satin-260", "gannet-64/kelp-synthetic-190")


@dataclass(frozen=True)
class Shop:
    """A press with its curves and its profile, and the strip as it prints the aim on a good day."""

    room: PrintRoom
    profile: icc.IccProfile
    strip: ReadingSet
    sent: np.ndarray


@lru_cache(maxsize=1)
def _aim() -> aims.Aim:
    return aims.load("generic-coated")


def open_shop(name: str) -> Shop:
    room = make_room(name)
    settings = ProfileSettings(Separation(total_ink=2.8), title=name, sizes=TableSizes(13, 17, 25, 17, 13))
    profile = icc.loads(build_profile(room.read(patches.profile_patches(500, 2.8)), settings).data)
    strip, _ = lay_out(patches.control_strip(), CMYK, "120x110")
    sent = strip_through_profile(strip, _aim(), profile, corrected=True)
    return Shop(room, profile, strip, sent.values())


def printed(
    shop: Shop,
    seed: int,
    state: Condition = Condition(),
    sent: np.ndarray | None = None,
    condition: str = "M1",
    bend: Callable[[np.ndarray], np.ndarray] = lambda d: d,
    spread: float = 1.0,
) -> ReadingSet:
    """The strip printed with `sent` through `bend` and the curves, and read."""
    values = shop.sent if sent is None else sent
    press = shop.room.press
    if spread != 1.0:
        press = replace(press, media=replace(press.media, spread=press.media.spread * spread))
    pipeline = lambda _device: shop.room.curves.apply(np.clip(bend(values), 0.0, 1.0))  # noqa: E731
    return print_and_read(shop.strip, press, seed, 1, state, pipeline, condition=condition)


def plant(fault: str, number: int, shops: list[Shop]) -> Strip:
    """A strip with one fault of random size and kind, held to the same press on a good day."""
    random = np.random.default_rng([number, FAULTS.index(fault)])
    shop = shops[number % len(shops)]
    good = printed(shop, 1000 + number // 10)
    seed = 5000 + 7 * number
    conditions = ("M1", "M1")
    sign = random.choice([-1.0, 1.0])

    def size(low: float, high: float) -> float:
        return float(random.uniform(low, high))

    if fault == "paper":
        turn = random.standard_normal(3) * np.array([0.6, 1.0, 1.0])
        shift = turn / np.linalg.norm(turn) * size(2.0, 5.0)
        read = printed(shop, seed, Condition(paper=(float(shift[0]), float(shift[1]), float(shift[2]))))
    elif fault == "channel":
        read = printed(
            shop, seed, Condition(drift=((str(random.choice(CMYK)), 1.0 + sign * size(0.08, 0.2)),))
        )
    elif fault == "dot gain":
        read = printed(shop, seed, spread=1.0 + sign * size(0.07, 0.18))
    elif fault == "grey balance":
        gains = random.permutation(np.array([1.0, -1.0, size(-0.5, 0.5)])) * size(0.03, 0.07)
        bend = lambda d: d + np.append(gains, 0.0) * 4.0 * d * (1.0 - d)  # noqa: E731
        read = printed(shop, seed, bend=bend)
    elif fault == "stale":
        drift = {c: 1.0 + float(random.choice([-1.0, 1.0])) * size(0.05, 0.15) for c in CMYK}
        read = printed(shop, seed, Condition(drift=tuple(drift.items())))
    elif fault == "profile":
        read = _through_another(shop, shops, number, seed)
    elif fault == "condition":
        condition = "M2" if number % 2 else "M0"
        shop = shops[0] if shop.room.press.media.brightener < 0.03 else shop
        good, read = printed(shop, 1000 + number // 10), printed(shop, seed, condition=condition)
        conditions = ("M1", condition)
    else:
        read = printed(shop, seed)
    lab = read.lab()
    if fault == "white":
        lab = replace(read, spectra=read.spectra * (1.0 + sign * size(0.03, 0.08))).lab()
    if fault == "rows":
        lab = _misread(shop.strip, lab, random)
    if fault == "sheets":
        lab = _mixed_up(shop.strip, lab, number)
    sheets = shop.strip.sheets
    return Strip(shop.sent, good.lab(), lab, shop.strip.rows, sheets, conditions)


def _through_another(shop: Shop, shops: list[Shop], number: int, seed: int) -> ReadingSet:
    """The strip through the profile of another press, or with another intent than it should have."""
    target = _aim()
    aim = target.lab_for(shop.strip)
    paper = shop.strip.values().max(axis=1) < 1e-6
    if number % 3 == 0:
        other = shops[(number + 2) % len(shops)]  # another press, not only another media
        return printed(shop, seed, sent=other.sent)
    intent = "perceptual" if number % 3 == 1 else "saturation"
    white = np.array([[100.0, 0.0, 0.0]])
    relative = substrate_corrected(aim, paper, aim[paper].mean(axis=0), white[0], target.darkest)
    return printed(shop, seed, sent=shop.profile.lab_to_device(relative, intent))


def _misread(strip: ReadingSet, lab: np.ndarray, random: np.random.Generator) -> np.ndarray:
    """One row read backwards or shifted by a patch."""
    out = lab.copy()
    numbers = np.unique(strip.rows)
    long = [r for r in numbers if (strip.rows == r).sum() >= 4]
    members = np.flatnonzero(strip.rows == random.choice(long))
    out[members] = lab[members][::-1] if random.random() < 0.5 else np.roll(lab[members], 1, axis=0)
    return out


def _mixed_up(strip: ReadingSet, lab: np.ndarray, number: int) -> np.ndarray:
    if number % 2:
        return lab[::-1]
    first, second = (np.flatnonzero(strip.sheets == s) for s in (1, 2))
    count = min(len(first), len(second))
    out = lab.copy()
    out[first[:count]], out[second[:count]] = lab[second[:count]], lab[first[:count]]
    return out


#: faults that may be planted together
PAIRABLE = ("paper", "channel", "dot gain", "grey balance", "white", "condition", "rows", "sheets")


def plant_two(first: str, second: str, number: int, shops: list[Shop]) -> tuple[Strip, str]:
    """A strip with two faults at once, and the ink of a ``channel`` fault, else nothing."""
    both = (first, second)
    random = np.random.default_rng([number, 77, FAULTS.index(first), FAULTS.index(second)])
    shop = shops[number % len(shops)]
    if "condition" in both and shop.room.press.media.brightener < 0.03:
        shop = shops[0]
    good = printed(shop, 1000 + number // 10)

    def size(low: float, high: float) -> float:
        return float(random.choice([-1.0, 1.0]) * random.uniform(low, high))

    state, channel, spread, gains = Condition(), "", 1.0, np.zeros(3)
    if "paper" in both:
        turn = random.standard_normal(3) * np.array([0.6, 1.0, 1.0])
        shift = turn / np.linalg.norm(turn) * abs(size(2.0, 5.0))
        state = replace(state, paper=(float(shift[0]), float(shift[1]), float(shift[2])))
    if "channel" in both:
        channel = str(random.choice(CMYK))
        state = replace(state, drift=((channel, 1.0 + size(0.08, 0.2)),))
    if "dot gain" in both:
        spread = 1.0 + size(0.07, 0.18)
    if "grey balance" in both:
        gains = random.permutation(np.array([1.0, -1.0, random.uniform(-0.5, 0.5)])) * size(0.03, 0.07)
    bend = lambda d: d + np.append(gains, 0.0) * 4.0 * d * (1.0 - d)  # noqa: E731
    condition = ("M2" if number % 2 else "M0") if "condition" in both else "M1"
    read = printed(shop, 5000 + 7 * number, state, condition=condition, bend=bend, spread=spread)
    lab = read.lab()
    if "white" in both:
        lab = replace(read, spectra=read.spectra * (1.0 + size(0.03, 0.08))).lab()
    if "rows" in both:
        lab = _misread(shop.strip, lab, random)
    if "sheets" in both:
        lab = _mixed_up(shop.strip, lab, number)
    return Strip(shop.sent, good.lab(), lab, shop.strip.rows, shop.strip.sheets, ("M1", "M1")), channel
