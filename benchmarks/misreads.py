"""Misreads: slips of the hand planted in rows of charts on presses that no expectation was tuned on."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from benchmarks.report import report
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.calibration.restore import short_chart
from greyanchor.core.characterization.expectation import learn_films, mean_of_media
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.strips import STRIPS
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, spectra_to_lab
from greyanchor.core.measurement.expectation import Expectation, guess
from greyanchor.core.measurement.misread_sheets import judge_sheet
from greyanchor.core.measurement.misreads import Surroundings, judge_row, rows_of
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import compare_passes
from greyanchor.core.measurement.row_by_row import learn_rows
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.inks import ink_absorption
from greyanchor.core.simulation.press import MediaModel, SimulatedPress
from greyanchor.core.simulation.standin import Condition, print_and_read
from greyanchor.core.verification.generic import generic_lab

CMYK = tuple("CMYK")
LIGHT = (*CMYK, "LC", "LM")
RGB = tuple("RGB")
#: stages that nothing measured before speaks for
UNKNOWN = ("nothing known", "R G B, rows 1-3")


def random_press(random: np.random.Generator, inks: Array, overdrive: float) -> SimulatedPress:
    """A media on a press; neither it nor the inks nor the settings are among those that are shipped."""
    media = MediaModel(
        "unseen",
        white=random.uniform(0.80, 0.93),
        tint=random.uniform(0.02, 0.12),
        brightener=random.choice([0.0, random.uniform(0.02, 0.12)]),
        spread=random.uniform(0.88, 1.40),
        capacity=random.uniform(0.75, 1.12),
        total_capacity=random.uniform(1.8, 2.8),
        surface=random.uniform(0.004, 0.024),
        grain=random.uniform(0.003, 0.009),
        best_heat=36.0,
    )
    environment = PrintEnvironment(
        "unseen",
        "unseen",
        "unseen",
        passes=int(random.choice([4, 6, 8, 12, 16])),
        direction=str(random.choice(["one way", "both ways"])),
        heat=36.0,
    )
    return SimulatedPress(media, environment, overdrive, absorption=inks)


def random_inks(random: np.random.Generator) -> Array:
    """Spectral densities (4, 36) of inks like those shipped, but of other strength and hue."""
    base = ink_absorption(str(random.choice(["Tarn pigment", "Basalt UV"])))
    shift = np.stack([np.roll(row, int(random.integers(-1, 2))) for row in base])
    return np.asarray(shift * random.uniform(0.88, 1.14, (4, 1)) + random.uniform(0.0, 0.02, (4, 1)))


@dataclass(frozen=True)
class Stage:
    """A chart of a build as it meets the instrument: what is expected of it, and two passes over it."""

    name: str
    chart: ReadingSet
    expected: Expectation
    passes: tuple[ReadingSet, ReadingSet]


def build_of(seed: int) -> list[Stage]:
    """The charts of one build on a press of its own, each with what the earlier ones let expect."""
    random = np.random.default_rng([seed, 77])
    inks, overdrive = random_inks(random), random.uniform(1.12, 1.42)
    press = random_press(random, inks, overdrive)
    others = [_ramps_of(random_press(random, inks, overdrive), 900 + seed * 10 + k) for k in range(3)]
    number = iter(range(seed * 50, seed * 50 + 50))
    stages: list[Stage] = []
    earlier: list[ReadingSet] = []

    def stage(
        name: str,
        device: Array,
        raw: Callable[[Array], Array] | None,
        expect: Callable[[ReadingSet], Expectation],
        mixed: bool = False,
        state: Condition = Condition(),
        keep: bool = True,
    ) -> ReadingSet:
        chart, _ = lay_out(device, CMYK, shuffle_seed=3 if mixed else None)
        sheet = next(number)
        first, second = (print_and_read(chart, press, sheet, k, state, raw) for k in (1, 2))
        sent = replace(chart, device=chart.values() if raw is None else raw(chart.values()))
        stages.append(Stage(name, chart, expect(sent), (first, second)))
        if keep:
            earlier.append(replace(first, device=sent.device))
        return first

    def from_earlier(sent: ReadingSet) -> Expectation:
        return learn_films(earlier, CMYK).expect(sent.values())

    stage("nothing known", patches.design("ink-limit"), None, _nothing_known, keep=False)
    read = stage(
        "ink limit",
        patches.design("ink-limit"),
        None,
        lambda sent: mean_of_media(sent.values(), [learn_films([o], CMYK) for o in others]),
    )
    limits = {c: f.limit for c, f in find_limits(read).items()}
    read = stage("linearization", patches.design("linearization", limits=limits), None, from_earlier)
    curves = linearize(read, limits).curves
    confirmed = stage("confirming", short_chart(), curves.apply, from_earlier, True)
    stage("grey", patches.design("grey"), curves.apply, from_earlier, True)
    stage("total ink", patches.design("total-ink"), curves.apply, from_earlier, True)
    stage("profile 400", patches.profile_patches(400, 2.8), curves.apply, from_earlier, True)
    stage("strip", STRIPS["full"].patches(), curves.apply, from_earlier, True, keep=False)
    drift = tuple((c, float(v)) for c, v in zip("CMYK", random.uniform(0.92, 1.08, 4)))
    aged = Condition(drift=drift)
    stage(
        "restore", short_chart(), curves.apply, lambda sent: _baseline(confirmed, sent, earlier), True, aged
    )
    return stages


def further_of(seed: int) -> list[Stage]:
    """First charts of a printer with light inks, and the profile chart of one that is driven by R G B."""
    random = np.random.default_rng([seed, 78])
    inks, overdrive = random_inks(random), random.uniform(1.12, 1.42)
    lights = tuple((f"L{'CM'[i]}", i, float(random.uniform(0.25, 0.45))) for i in (0, 1))

    def with_lights() -> SimulatedPress:
        return replace(random_press(random, inks, overdrive), lights=lights)

    press, others = with_lights(), [with_lights() for _ in range(3)]
    numbers = iter(range(seed * 50 + 30, seed * 50 + 50))

    def read(on: SimulatedPress, name: str, limits: dict[str, float] | None = None) -> list[ReadingSet]:
        chart, _ = lay_out(patches.design(name, LIGHT, limits=limits), LIGHT)
        sheet = next(numbers)
        return [print_and_read(chart, on, sheet, k) for k in (1, 2)]

    learned = [learn_films([read(o, "ink-limit")[0]], LIGHT) for o in others]
    first, again = read(press, "ink-limit")
    limits = {c: f.limit for c, f in find_limits(first).items()}
    ramps, ramps_again = read(press, "linearization", limits)
    stages = [
        Stage("limits, light", first, mean_of_media(first.values(), learned), (first, again)),
        Stage(
            "linear., light",
            ramps,
            learn_films([first], LIGHT).expect(ramps.values()),
            (ramps, ramps_again),
        ),
    ]
    driven = replace(press_by_name("dunlin-24"), media=random_press(random, inks, overdrive).media)
    chart, _ = lay_out(patches.design("profile", RGB, 400), RGB, shuffle_seed=3)
    prints = [print_and_read(chart, driven, next(numbers), k) for k in (1, 2)]
    known = guess(generic_lab(prints[0].inks(), tuple("CMY")))
    return [*stages, Stage("profile, R G B", prints[0], known, (prints[0], prints[1]))]


def whole_sheets(seeds: range) -> tuple[int, int, int, int]:
    """First sheets read whole, upside down or of another chart: caught and tried; clean ones: refused and
    tried.
    """
    caught = tried = refused = clean = 0
    for seed in seeds:
        stages = [s for s in build_of(seed) if s.name != "nothing known"]
        firsts = [np.flatnonzero(_sheet_numbers(s.chart) == 1) for s in stages]
        for stage, places in zip(stages, firsts):
            seen = [reading.lab()[places] for reading in stage.passes]
            clean += 2
            refused += sum(bool(judge_sheet(stage.chart, stage.expected, lab, 1)) for lab in seen)
            others = [s.passes[0].lab()[p] for s, p in zip(stages, firsts) if s is not stage]
            alike = [o for o in others if len(o) == len(places)]
            wrong = [o for o in alike if delta_e_2000(o, seen[0]).mean() > SEEN] + [seen[0][::-1]]
            tried += len(wrong)
            caught += sum(bool(judge_sheet(stage.chart, stage.expected, lab, 1)) for lab in wrong)
    return caught, tried, refused, clean


def _sheet_numbers(chart: ReadingSet) -> Array:
    return np.ones(len(chart), dtype=int) if chart.sheets is None else np.asarray(chart.sheets)


def _nothing_known(sent: ReadingSet) -> Expectation:
    return guess(generic_lab(sent.values(), CMYK))


def _baseline(confirmed: ReadingSet, sent: ReadingSet, earlier: list[ReadingSet]) -> Expectation:
    films = learn_films(earlier, CMYK).expect(sent.values(), volume=0.06)
    return replace(films, lab=confirmed.lab(), spread=np.full(len(sent), 0.35), source="the baseline")


def _ramps_of(press: SimulatedPress, seed: int) -> ReadingSet:
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    return print_and_read(chart, press, seed)


def _missed(random: np.random.Generator, n: int, count: int) -> Array:
    at = np.sort(random.choice(n, count, replace=False))
    kept = np.delete(np.arange(n), at)
    return np.append(kept, np.full(count, n - 1))


def _doubled(random: np.random.Generator, n: int, count: int) -> Array:
    at = np.sort(random.choice(n - count, count, replace=False))
    return np.sort(np.append(np.arange(n - count), at))


def _split_skipped(random: np.random.Generator, n: int) -> Array:
    split, skipped = sorted(random.choice(n, 2, replace=False))
    if random.random() < 0.5:
        order = np.insert(np.arange(n), split, split)
        return np.delete(order, skipped + 1)
    order = np.insert(np.arange(n), skipped, skipped)
    return np.delete(order, split)


#: what is counted: some patch of the row must change by this much, dE00
SEEN = 3.0


def slips(
    random: np.random.Generator, spectra: dict[int, Array], row: int, foreign: list[Array]
) -> dict[str, Array]:
    """Spectra of a row as each slip would have it."""
    mine = spectra[row]
    n = len(mine)
    found = {
        "one missed": mine[_missed(random, n, 1)],
        "one twice": mine[_doubled(random, n, 1)],
        "two missed": mine[_missed(random, n, 2)],
        "split, skipped": mine[_split_skipped(random, n)],
        "backwards": mine[::-1],
    }
    same = [r for r in spectra if r != row and len(spectra[r]) == n]
    if same:
        found["another row"] = spectra[int(random.choice(same))]
    fitting = [f for f in foreign if len(f) == n]
    if fitting:
        found["another chart"] = fitting[int(random.integers(len(fitting)))]
    dirty = mine.copy()
    at = int(random.integers(n))
    bright = np.max([s.max(axis=0) for s in spectra.values()], axis=0)
    dirty[at] = 0.65 * mine[at] + 0.35 * bright if mine[at].mean() < 0.5 else 0.75 * mine[at] + 0.25 * 0.03
    found["scratch or speck"] = dirty
    return found


def _changed(was: Array, now: Array) -> bool:
    off = delta_e_2000(spectra_to_lab(was), spectra_to_lab(now))
    return bool(off.max() > SEEN)


def measure(seeds: range, rounds: int = 2) -> dict[tuple[str, str], list[int]]:
    """Caught and tried by stage and slip; "clean" counts refused rows."""
    counts: dict[tuple[str, str], list[int]] = defaultdict(lambda: [0, 0])
    for seed in seeds:
        stages = [*build_of(seed), *further_of(seed)]
        random = np.random.default_rng([seed, 5])
        for stage in stages:
            foreign = [
                s.passes[0].spectra[m]
                for s in stages
                if s.name != stage.name
                for m in rows_of(s.chart).values()
            ]
            _stage(random, stage, foreign, counts, rounds)
    return counts


def _stage(
    random: np.random.Generator,
    stage: Stage,
    foreign: list[Array],
    counts: dict[tuple[str, str], list[int]],
    rounds: int,
) -> None:
    members = rows_of(stage.chart)
    spectra = {r: stage.passes[0].spectra[m] for r, m in members.items()}
    kept: list[int] = []
    for row, places in members.items():
        expected, name = stage.expected, stage.name
        if kept and expected.rough and stage.chart.channels == RGB:
            seen_rows = [(members[r], stage.passes[0].lab()[members[r]]) for r in kept[-12:]]
            expected = learn_rows(expected, stage.chart.values(), seen_rows)
        elif kept:
            index = np.concatenate([members[r] for r in kept[-8:]])
            expected = expected.bent(index, stage.passes[0].lab()[index])
        around = Surroundings.of(stage.chart, expected)
        if stage.chart.channels == RGB and len(kept) < 3:
            name = "R G B, rows 1-3"
        part = expected.select(places)
        kept.append(row)
        tried = [("clean", reading.spectra[places]) for reading in stage.passes]
        for _ in range(rounds if len(places) >= 6 else 0):
            planted = slips(random, spectra, row, foreign)
            tried += [(kind, seen) for kind, seen in planted.items() if _changed(spectra[row], seen)]
        for kind, seen in tried:
            tally = counts[name, kind]
            tally[0] += not judge_row(part, spectra_to_lab(seen), around, row).ok
            tally[1] += 1


def table(counts: dict[tuple[str, str], list[int]]) -> None:
    """Shares caught, percent, by stage and slip."""
    kinds = list(dict.fromkeys(kind for _, kind in counts))
    print(f"  {'':<14}" + "".join(f"{k:>18}" for k in kinds))
    for name in dict.fromkeys(name for name, _ in counts):
        cells = []
        for kind in kinds:
            caught, tried = counts.get((name, kind), [0, 0])
            if kind == "clean":
                cells.append(f"{caught:>9} of {tried:<5}")
            else:
                cells.append(f"{100 * caught / tried:>9.1f} ({tried})" if tried else "        -")
        print(f"  {name:<14}" + "".join(f"{c:>18}" for c in cells))


def naming(seeds: range) -> tuple[int, int, int]:
    """Of passes with one misread row: how often the right one, a wrong one, and none was named."""
    right = wrong = none = 0
    for seed in seeds:
        random = np.random.default_rng([seed, 9])
        for stage in build_of(seed):
            members = rows_of(stage.chart)
            for row in [r for r in members if len(members[r]) >= 6]:
                spectra = {r: stage.passes[0].spectra[m] for r, m in members.items()}
                for kind, seen in slips(random, spectra, row, []).items():
                    if kind == "scratch or speck" or not _changed(spectra[row], seen):
                        continue
                    which = int(random.integers(2))
                    passes = list(stage.passes)
                    whole = passes[which].spectra.copy()
                    whole[members[row]] = seen
                    passes[which] = replace(passes[which], spectra=whole)
                    named = set(compare_passes(passes, stage.expected).worst_pass.values())
                    right += named == {which + 1}
                    wrong += bool(named - {which + 1})
                    none += not named
    return right, wrong, none


def everything(builds: int = 12) -> None:
    """Shares caught at the row on pass 1, false alarms, and the pass named, beside their goals."""
    print("\nMisreads on presses, inks and media that no expectation was tuned on")
    counts = measure(range(20_000, 20_000 + builds), 1)
    table(counts)
    known = {k: v for k, v in counts.items() if k[0] not in UNKNOWN}
    clean = [v for k, v in counts.items() if k[1] == "clean"]
    slipped = [v for k, v in known.items() if k[1] not in ("clean", "scratch or speck")]
    marks = [v for k, v in known.items() if k[1] == "scratch or speck"]
    alarms = 1000.0 * sum(v[0] for v in clean) / sum(v[1] for v in clean)
    report("clean rows refused, in a thousand", alarms, 1.0, "rows")
    report("row slips not caught on pass 1", 100.0 - _share(slipped), 2.0, "%")
    report("scratches and specks not caught", 100.0 - _share(marks), 10.0, "%")
    right, wrong, none = naming(range(21_000, 21_000 + builds // 4))
    caught, tried, refused, sheets = whole_sheets(range(22_000, 22_000 + builds // 2))
    report(
        f"sheets upside down or of another chart not caught, of {tried}",
        100.0 * (1 - caught / tried),
        2.0,
        "%",
    )
    report(f"clean sheets refused, of {sheets}", float(refused), 0.0, "sheets")
    report("wrong pass not named", 100.0 * (wrong + none) / (right + wrong + none), 1.0, "%")


def _share(counts: list[list[int]]) -> float:
    return 100.0 * sum(v[0] for v in counts) / sum(v[1] for v in counts)


if __name__ == "__main__":
    first, last = (int(v) for v in sys.argv[1:3])
    table(measure(range(first, last)))
