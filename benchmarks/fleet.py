"""A fleet that keeps itself: new media from small charts, families, likely limits, a year of nights.

`python -m benchmarks.fleet`; the builds without hands are `python -m benchmarks.fleet builds 50`, or some of
them by number: `builds 50 14 28`.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.misreads import random_inks, random_press
from benchmarks.report import report
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.nightly import PERSON, RESTORE, DriftLimits, decide
from greyanchor.core.calibration.restore import compare_to_baseline, restore, short_chart
from greyanchor.core.characterization import small_charts
from greyanchor.core.characterization.model import characterize
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour import rgb_spaces
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.likely import INPUTS, Known, Traits, likely
from greyanchor.core.profiling import common_ground as grounds
from greyanchor.core.profiling.build import ProfileSettings, build_from_model, build_like, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import Condition, print_and_read
from tests import lcms

_CMYK = tuple("CMYK")
_CLASSES = ("coated", "matt", "film", "canvas")


class Room:
    """A press with its limits and curves, and what it really prints."""

    def __init__(self, press: SimulatedPress, seed: int) -> None:
        self.press, self._seed = press, seed
        self.limits = {c: f.limit for c, f in find_limits(self._raw("ink-limit")).items()}
        self.curves = linearize(self._raw("linearization", self.limits), self.limits).curves

    def _raw(self, name: str, limits: dict[str, float] | None = None) -> ReadingSet:
        self._seed += 1
        return print_and_read(lay_out(patches.design(name, limits=limits), _CMYK)[0], self.press, self._seed)

    def read(
        self, device: Array, state: Condition = Condition(), curves: CurveSet | None = None
    ) -> ReadingSet:
        self._seed += 1
        chart, _ = lay_out(device, _CMYK, shuffle_seed=3)
        way = (curves or self.curves).apply
        return print_and_read(chart, self.press, self._seed, state=state, pipeline=way)

    def truth(self, device: Array) -> Array:
        return spectra_to_lab(self.press.spectra(self.curves.apply(device)))


def _rooms(seed: int, count: int) -> list[Room]:
    random = np.random.default_rng([seed, 515])
    inks, overdrive = random_inks(random), random.uniform(1.12, 1.42)
    presses = [random_press(np.random.default_rng([seed, 515, k]), inks, overdrive) for k in range(count)]
    return [Room(p, 100_000 * seed + 1000 * k) for k, p in enumerate(presses)]


def small(seeds: int = 4) -> None:
    """100 patches and four other media against 400 patches alone, and 100 alone."""
    print("\nA new media from 100 patches and four other media of the same inks, single readings")
    found: dict[str, list[float]] = {}
    unseen = np.random.default_rng(99).random((4000, 4))
    unseen = unseen[unseen.sum(axis=1) < 2.85]
    settings = ProfileSettings(Separation(total_ink=3.0))
    for seed in range(1, seeds + 1):
        *others, new = _rooms(seed, 5)
        kin = small_charts.learn_kin([r.read(patches.profile_patches(1000, 3.0)) for r in others])
        truth = new.truth(unseen)

        chart = new.read(small_charts.choose_patches(kin, 100, 3.0))
        whole = new.read(patches.profile_patches(400, 3.0))
        like, _ = build_like(chart, kin, settings)
        alone = build_profile(whole, settings)
        for name, value in (
            ("device to Lab, 100 and others", delta_e_2000(like.model.lab(unseen), truth).mean()),
            ("device to Lab, 400 alone", delta_e_2000(alone.model.lab(unseen), truth).mean()),
            ("device to Lab, 100 alone", delta_e_2000(
                characterize(new.read(patches.profile_patches(100, 3.0))).lab(unseen), truth).mean()),
            ("Lab to device, 100 and others", _back(new, like.data, truth)),
            ("Lab to device, 400 alone", _back(new, alone.data, truth)),
        ):  # fmt: skip
            found.setdefault(name, []).append(float(value))
    for name, values in found.items():
        goal = {"device to Lab, 100 and others": 0.13, "Lab to device, 100 and others": 0.18}.get(
            name, float("inf")
        )
        report(f"{name}, mean", float(np.mean(values)), goal, "dE00")


def _back(room: Room, data: bytes, truth: Array) -> float:
    """Mean dE00 of colours asked for through a profile and printed."""
    return float(delta_e_2000(room.truth(lcms.lab_to_device(data, truth)), truth).mean())


def families(seeds: int = 3) -> None:
    """Two stand-ins apart, same inks, joined: 500 picture colours through lcms2, printed."""
    print("\nTwo machines with the same inks in a family, 500 picture colours, printed")
    settings = ProfileSettings(Separation(total_ink=3.0))
    rgb = rgb_spaces.rgb_to_lab(grounds.picture_colours(500))
    for seed in range(1, seeds + 1):
        rooms = _rooms(40 + seed, 2)
        read = [r.read(patches.profile_patches(1000, 3.0)) for r in rooms]
        own = [build_profile(r, settings) for r in read]
        ground = grounds.common_ground(
            [grounds.Member(str(i), p.model, settings.separation) for i, p in enumerate(own)]
        )
        joined = [
            build_from_model(p.model, r, settings, common=ground.rendering_of(i))
            for i, (p, r) in enumerate(zip(own, read))
        ]
        before, after = (
            grounds.apart(
                *(r.truth(lcms.lab_to_device(p.data, rgb, "perceptual")) for r, p in zip(rooms, made))
            )
            for made in (own, joined)
        )
        report(f"pair {seed}, {before.mean:.1f} apart: mean after", after.mean, 0.8, "dE00")
        report(f"pair {seed}, {before.p95:.1f} at the 95th: after", after.p95, 2.0, "dE00")


def expected(trials: int = 50) -> None:
    """Limits and curves of a new media of a known class, from six others of it and ten of other classes."""
    print(f"\nLimits and curves expected of {trials} new media before anything is read")
    near, inside, curves = [], [], []
    for trial in range(trials):
        random = np.random.default_rng([trial, 77])
        inks, overdrive = random_inks(random), random.uniform(1.15, 1.4)
        mine = str(random.choice(list(_CLASSES)))
        centres = {
            c: random_press(np.random.default_rng([trial, i]), inks, overdrive)
            for i, c in enumerate(_CLASSES)
        }
        known = []
        for k in range(16):
            kind = mine if k < 6 else _CLASSES[k % len(_CLASSES)]
            known.append(_known(f"m{k}", kind, Room(_near(centres[kind], random), 10_000 * trial + 100 * k)))
        new = _known("new", mine, Room(_near(centres[mine], random), 10_000 * trial + 9000))
        found = likely(known, new.traits)
        assert found is not None
        off = [abs(found.limits[c].value - new.limits[c]) for c in _CMYK]
        near.append(np.mean([o <= 5.0 for o in off]))
        inside.append(np.mean([o <= found.limits[c].unsure for o, c in zip(off, _CMYK)]))
        truth = _at_inputs(new.curves)
        curves.append(np.mean([
            max(abs(g.value - v) for g, v in zip(found.curves[c], truth[c])) <= 3.0 for c in _CMYK
        ]))  # fmt: skip
    report("limits off by more than 5 points", 100.0 * (1 - float(np.mean(near))), 20.0, "%")
    report("curves off by more than 3 % somewhere", 100.0 * (1 - float(np.mean(curves))), 20.0, "%")
    report(
        "limits outside the stated uncertainty (a third is right)",
        100.0 * (1 - float(np.mean(inside))),
        40.0,
        "%",
    )


def _near(press: SimulatedPress, random: np.random.Generator) -> SimulatedPress:
    """Another media of the same class: each figure a few percent aside."""
    from dataclasses import replace

    m = press.media
    by = {n: float(1.0 + 0.05 * random.standard_normal()) for n in ("spread", "capacity", "total_capacity")}
    return replace(press, media=replace(
        m, spread=m.spread * by["spread"], capacity=m.capacity * by["capacity"],
        total_capacity=m.total_capacity * by["total_capacity"], white=min(m.white * 1.005, 0.95),
    ))  # fmt: skip


def _known(name: str, kind: str, room: Room) -> Known:
    limits = {c: 100.0 * v for c, v in room.limits.items()}
    return Known(name, Traits(kind), limits, 280.0, 8, room.curves.to_csv())


def _at_inputs(text: str) -> dict[str, list[float]]:
    curves = CurveSet.from_csv(text, "curves")
    x = np.linspace(0.0, 100.0, curves.outputs.shape[1])
    return {
        c: [float(v) for v in 100.0 * np.interp(INPUTS, x, row) / row[-1]]
        for c, row in zip(curves.channels, curves.outputs)
    }


def year(nights: int = 365) -> None:
    """A year with drift, slips of a reader, paper batches and an ink lot that is off: days out of
    tolerance.
    """
    print("\nA year of nights, days out of a tolerance of 1.5 dE00 mean")
    with_rules, without = _year(nights, True), _year(nights, False)
    report("days out of tolerance without rules", float(without), float("inf"), "days")
    report("with them", float(with_rules), max(without / 10.0, 1.0), "days")


def _year(nights: int, ruled: bool) -> int:
    random = np.random.default_rng(2026)
    room = Room(
        random_press(np.random.default_rng([5, 3]), random_inks(np.random.default_rng(5)), 1.3), 7_000_000
    )
    baseline, curves, limits = room.read(short_chart()), room.curves, DriftLimits()
    volumes, out, short = np.ones(4), 0, False
    for night in range(nights):
        volumes = volumes * (
            1.0 + 0.004 * random.standard_normal(4) + np.array([-0.0012, 0.0008, 0.0, 0.0004])
        )
        if night % 90 == 60:
            volumes[int(random.integers(4))] *= float(random.choice([0.9, 1.1]))  # a lot of ink that is off
        state = Condition(drift=tuple(zip(_CMYK, (float(v) for v in volumes))))
        if night % 7 == 0 or ruled:  # without rules it is only looked at to count
            now = room.read(short_chart(), state, curves)
            if ruled and random.random() < 0.03:
                now = room.read(short_chart(), state, curves)  # a slip: the pass is left out and read again
            drift = compare_to_baseline(baseline, now, curves)
            if ruled:
                act = decide(drift.mean, limits, drift.not_enough, short)
                if act.act == RESTORE:
                    made = restore(baseline, now, curves)
                    curves, short = made.curves, bool(drift.not_enough)
                elif act.act == PERSON:
                    volumes, short = np.ones(4), False  # the head is mended in the morning
            off = drift.mean if not ruled else _day(room, baseline, state, curves)
            if off > limits.tolerance:
                out += 1 if ruled else 7
    return out


def _day(room: Room, baseline: ReadingSet, state: Condition, curves: CurveSet) -> float:
    """How far the day's prints are off, after what the night did."""
    return compare_to_baseline(baseline, room.read(short_chart(), state, curves), curves).mean


_BUILDS = """
import os, sys, json
import django; django.setup()
from greyanchor.operations import tables
tables.bring_up_to_date()
from benchmarks import fleet
fleet.alone([int(v) for v in sys.argv[1:]])
"""


def builds(numbers: Sequence[int]) -> None:
    """Builds without hands, in a shop of their own."""
    import os

    with tempfile.TemporaryDirectory(prefix="alone-") as home:
        environment = {**os.environ, "GREYANCHOR_HOME": home, "GREYANCHOR_DEMO": "1",
                       "DJANGO_SETTINGS_MODULE": "greyanchor.config.settings", "PYTHONPATH": str(Path.cwd()),
                       "GREYANCHOR_LOG_LEVEL": "ERROR"}  # fmt: skip
        subprocess.run([sys.executable, "-c", _BUILDS, *map(str, numbers)], env=environment, check=True)


def _plain(printer: Any) -> Any:
    """An ink set of C M Y K that a build can be made of."""
    return next((s for s in printer.ink_sets.all() if s.channels == list(_CMYK) and s.can_be_built), None)


def alone(numbers: Sequence[int]) -> None:
    """What `builds` runs inside the application: machines and media by turns, with passes, heat and the
    drops of each ink of their own.
    """
    from django.utils import timezone

    from greyanchor.builds.lifecycle.start import start_build
    from greyanchor.demo import seed
    from greyanchor.library.machines.controls import set_controls
    from greyanchor.library.models import Media, Printer, PrintMode, ReadinessRun
    from greyanchor.unattended import engine, services
    from greyanchor.unattended.models import Unattended

    users = seed.people_and_machines()
    aim = seed.northlight_coated()
    Media.objects.update(travels_backwards=True)
    machines = [p for p in Printer.objects.all() if p.resolutions and _plain(p) is not None]
    media = list(Media.objects.filter(unreadable=False))
    pairs = [(p, m) for m in media for p in machines if m.width_mm <= p.width_mm]
    title = f"{len(numbers)} builds without hands, 1,000 patches, on the reader inside the machine"
    print(f"\n{title}", flush=True)
    ended: dict[str, int] = {}
    for i in numbers:
        random = np.random.default_rng([50, i])
        printer, roll = pairs[i % len(pairs)]
        inks = _plain(printer)
        assert inks is not None
        Printer.objects.filter(pk=printer.pk).update(
            loaded_media=roll, loaded_at=timezone.now(), abilities={}
        )
        set_controls(printer, {c: float(random.uniform(90.0, 110.0)) for c in _CMYK})
        passes = int(random.choice(printer.passes))
        choices = {"resolution": printer.resolutions[0], "passes": passes, "direction": "one way",
                   "halftone": "blue noise", "heat": float(random.integers(32, 42)),
                   "vacuum": 50.0}  # fmt: skip
        build = start_build(f"alone {i}", printer, inks, roll, choices, users["ines"])
        wishes = {"patches": 1000, "aim": aim.pk, "tolerances": "iso12647-7:2016", "corrected": True}
        work = services.start_build_alone(build, wishes, users["ines"])
        for _ in range(40):
            engine.tick(seconds=600)
            work.refresh_from_db()
            if work.state != Unattended.State.GOING:
                break
        mode = PrintMode.objects.get(pk=build.mode_id)
        how = (
            "checked"
            if work.state == Unattended.State.DONE and mode.last_verdict == "pass"
            else work.stop or "wrong"
        )
        ended[how] = ended.get(how, 0) + 1
        print(
            f"  {printer.name}, {roll.name}, {passes} passes: {how}; {work.words[:250]}",
            flush=True,
        )
    total = sum(ended.values())
    report("not ended in a passing check alone", 100.0 * (1 - ended.get("checked", 0) / total), 10.0, "%")
    report("ended in a wrong mode", float(ended.get("wrong", 0)), 0.0, "")
    print(f"  {ended}; {ReadinessRun.objects.count()} readiness runs")


PARTS: dict[str, Callable[[], None]] = {
    "small": small,
    "families": families,
    "expected": expected,
    "year": year,
}


def run() -> None:
    """All of it, without the builds."""
    for part in PARTS.values():
        part()


if __name__ == "__main__":
    if sys.argv[1:2] == ["builds"]:
        builds([int(v) for v in sys.argv[3:]] or range(int(sys.argv[2])))
    elif len(sys.argv) > 1:
        PARTS[sys.argv[1]]()
    else:
        run()
