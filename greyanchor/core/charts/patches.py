"""Patch sets: which device values answer which question. All are (n, channels) fractions 0..1."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import combinations

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import as_inks, is_additive
from greyanchor.core.measurement.sequences import sobol

#: unprinted patches of a profile chart: the media white is read from them
PAPERS = 6
PURPOSES = ("ink-limit", "linearization", "total-ink", "grey", "profile", "control-strip")
_GREY_STEPS = (
    0.02,
    0.04,
    0.07,
    0.10,
    0.15,
    0.20,
    0.25,
    0.30,
    0.35,
    0.40,
    0.45,
    0.50,
    0.55,
    0.60,
    0.65,
    0.70,
    0.75,
    0.80,
    0.85,
    0.90,
    0.95,
    1.0,
)


def near_neutral(cyan: npt.ArrayLike) -> Array:
    """C, M, Y (n, 3) of the near-neutral scale for `cyan` fractions (n,).

    CGATS TR 015: M = Y = 0.747 C - 4.1e-4 C^2 + 2.94e-5 C^3, in percent.

    >>> near_neutral([0.5]).round(4).tolist()
    [[0.5, 0.4, 0.4]]
    """
    c = 100.0 * np.asarray(cyan, dtype=float)
    other = 0.747 * c - 4.1e-4 * c**2 + 2.94e-5 * c**3
    return np.asarray(np.stack([c, other, other], axis=-1) / 100.0)


def ink_limit_ramps(channels: int = 4, steps: int = 21) -> Array:
    """Paper, four times, and an even ramp of every channel alone up to raw 100 %, `steps` each without
    paper: (4 + channels * steps, channels), fractions.
    """
    levels = np.linspace(0.0, 1.0, steps + 1)[1:]
    return np.vstack([np.zeros((4, channels)), *(_single(channels, i, levels) for i in range(channels))])


def linearization_ramps(limits: npt.ArrayLike, steps: int = 25) -> Array:
    """Paper, four times, and a ramp of every channel from 0 to its limit (fractions), the limit twice.

    Steps are denser in the highlights. Paper and limit scale every tone value, so their noise counts most.
    """
    tops = np.asarray(limits, dtype=float)
    levels = np.linspace(0.0, 1.0, steps + 1)[1:] ** 1.25
    n = len(tops)
    levels = np.append(levels, 1.0)
    return np.vstack([np.zeros((4, n)), *(_single(n, i, levels * top) for i, top in enumerate(tops))])


#: about where inks stand around the circle of hues, degrees
HUES = {"M": 350.0, "R": 28.0, "O": 55.0, "Y": 93.0, "G": 155.0, "C": 235.0, "B": 285.0, "V": 310.0}


def neighbours(channel: str, channels: Sequence[str]) -> tuple[str, ...]:
    """The process inks on both sides of a further ink around the circle of hues: what it overprints with.

    >>> neighbours("O", "CMYKOGV"), neighbours("G", "CMYKOGV")
    (('M', 'Y'), ('Y', 'C'))
    """
    ring = sorted((c for c in channels if c in "CMY"), key=HUES.__getitem__)
    if channel not in HUES or len(ring) < 3:
        return tuple(ring)
    after = next((i for i, c in enumerate(ring) if HUES[c] > HUES[channel]), 0)
    return ring[after - 1], ring[after]


def _overprinting(members: tuple[int, ...], names: Sequence[str]) -> bool:
    """Whether a separation prints these inks together: a further ink with one of its neighbours, or black,
    and with no other further one.
    """
    further = [names[i] for i in members if names[i] not in "CMYK"]
    if not further:
        return True
    near = {*neighbours(further[0], names), "K"}
    others = [names[i] for i in members if names[i] in "CMYK"]
    return len(further) == 1 and set(others) <= near and not set(neighbours(further[0], names)) <= set(others)


def total_ink_steps(
    channels: int = 4, highest: float = 4.0, step: float = 0.2, names: Sequence[str] = ()
) -> Array:
    """Rising sums of all channels, of triples and of pairs, from 100 % up.

    The sum of all channels rises along equal amounts; every patch keeps to `highest`. Where the `names` of
    C M Y K and further inks are given, all are C, M, Y and K: no separation prints a further ink but with one
    of its neighbours and black.

    Gives (n, channels), fractions; `highest` and `step` are sums of fractions.
    """
    known = names if set("CMYK") <= set(names) else ()
    together = np.array([c in "CMYK" for c in known] or [True] * channels, dtype=float)
    many = int(together.sum())
    rows = [np.zeros(channels)]
    rows += [together * s / many for s in np.arange(1.0, many + 1e-9, step)]
    for size in (3, 2):
        for members in combinations(range(channels), size):
            if size == many == channels or (known and not _overprinting(members, known)):
                continue
            mask = np.zeros(channels)
            mask[list(members)] = 1.0 / size
            rows += [mask * s for s in np.arange(1.0, size + 1e-9, step)]
    values = np.array(rows)
    return _unique(values[values.sum(axis=1) <= highest + 1e-9])


def grey_scales(channels: int = 4) -> Array:
    """The grey chart (CGATS TR 015): what grey balance is solved from, about 190 patches.

    Paper four times, the near-neutral scale of CMY with neighbours in M and Y that widen with the tone,
    the scale of K alone, ramps and overprints of C, M and Y, and the anchor tones once more.

    Gives (n, 4), fractions. Raises `BadInput` for another number of channels than four.
    """
    if channels < 4:
        raise BadInput("a grey chart needs the channels C, M, Y and K")
    steps = np.array(_GREY_STEPS)
    scale = near_neutral(steps)
    black = np.zeros((len(steps), 1))
    rows = [np.zeros((1, 4))]
    for dm, dy in ((0, 0), (1, 0), (-1, 0), (0, 1), (0, -1), (1, 1), (-1, -1)):
        width = (0.025 + 0.075 * steps)[:, None] * np.array([0.0, dm, dy])
        rows.append(np.hstack([np.clip(scale + width, 0.0, 1.0), black]))
    rows.append(_single(4, 3, steps))
    levels = np.array([0.2, 0.4, 0.6, 0.8, 1.0])
    rows += [_single(4, i, levels) for i in range(3)]
    pairs = np.array([(1, 1, 0, 0), (1, 0, 1, 0), (0, 1, 1, 0)], dtype=float)
    rows += [pairs, 0.6 * pairs]
    once = _unique(np.vstack(rows))
    anchors = np.array([0.25, 0.5, 0.75, 1.0])
    greys = np.hstack([near_neutral(anchors), np.zeros((4, 1))])
    return np.vstack([once, np.zeros((3, 4)), greys, _single(4, 3, anchors)])


def profile_patches(
    count: int = 1500,
    total_ink: float = 3.0,
    channels: int = 4,
    seed: int = 1,
    names: Sequence[str] = (),
) -> Array:
    """`count` patches for characterization, none above `total_ink` (sum of fractions).

    Paper six times and each solid twice (to learn noise and catch unevenness), ramps of every channel,
    the grey axis, overprints of pairs and triples at three levels, and the rest an even fill by a
    low-discrepancy (Sobol) sequence, thinned so that no patch crowds another. With more than four inks the
    overprints are those that a separation prints, where `names` say which inks are
    neighbours. Raises `BadInput` when `count` is too small for the fixed part.

    Gives (count, channels), fractions.
    """
    scale_steps = 7 if count < 500 else 11 if count < 1200 else 15
    fixed = _fixed_profile_part(channels, total_ink, scale_steps, count, names)
    repeats = np.vstack([np.zeros((PAPERS - 1, channels)), np.eye(channels)])
    room = count - len(fixed) - len(repeats)
    if room < 0:
        raise BadInput(
            f"{count} patches are too few: paper, ramps, greys and overprints alone need {count - room}"
        )
    return np.vstack([fixed, _even_fill(room, fixed, total_ink, channels, seed), repeats])


def _fixed_profile_part(
    channels: int, total_ink: float, steps: int, count: int, names: Sequence[str] = ()
) -> Array:
    levels = np.linspace(0.0, 1.0, steps + 1)[1:]
    parts = [np.zeros((1, channels)), *(_single(channels, i, levels) for i in range(channels))]
    if channels >= 3:
        grey = near_neutral(levels)
        parts.append(np.hstack([grey, np.zeros((len(grey), channels - 3))]))
        if channels > 3 and count >= 300:
            for black in (0.2, 0.5, 0.8):
                with_black = np.hstack(
                    [grey[1::2] * (1.0 - 0.4 * black), np.zeros((len(grey[1::2]), channels - 3))]
                )
                with_black[:, 3] = black
                parts.append(with_black)
    every = channels <= 4 or not set("CMYK") <= set(names)
    for level in (0.4, 0.7, 1.0) if count >= 300 else (1.0,):
        for subset in range(1, 2**channels):
            members = tuple(i for i in range(channels) if subset >> i & 1)
            if len(members) < 2 or not (every or _overprinting(members, names)):
                continue
            mask = np.zeros(channels)
            mask[list(members)] = 1.0
            parts.append(level * mask[None])
    return _unique(_fit_total(np.vstack(parts), total_ink))


#: shares of the fill with none, one, two and three further inks: a separation prints few of them together
_FURTHER = (0.30, 0.42, 0.22, 0.06)
#: how far patches with further inks lean to light colours (power of an even spread)
_LEAN = 0.15


def _even_fill(room: int, fixed: Array, total_ink: float, channels: int, seed: int) -> Array:
    if room == 0:
        return np.zeros((0, channels))
    if channels <= 4:
        return _thin(_pool(room * 12, total_ink, channels, seed), fixed, room)
    random = np.random.default_rng(seed)
    shares = np.array(_FURTHER[: channels - 3])
    counts = np.round(shares / shares.sum() * room).astype(int)
    counts[0] += room - counts.sum()
    together = (fixed[:, 4:] > 0.0).sum(axis=1)
    parts = []
    for inks, count in enumerate(counts):
        if count:
            pool = _pool(int(count) * 16, total_ink, channels, seed + inks, inks, random)
            known = fixed[together == inks]
            parts.append(_thin(pool, known if len(known) else fixed[:1], int(count)))
    return np.vstack(parts)


def _pool(
    least: int,
    total_ink: float,
    channels: int,
    seed: int,
    further: int | None = None,
    random: np.random.Generator | None = None,
) -> Array:
    """Even (Sobol) amounts of ink (n, channels) within `total_ink`; where `further` is given, with so many
    inks beside C, M, Y and K.
    """
    pool = sobol(channels, int(np.ceil(np.log2(max(least, 256)))), seed)
    pool = 0.5 * (pool + np.sin(np.pi * (pool - 0.5)) * 0.5 + 0.5)  # a little closer to the walls
    if further is not None and random is not None:
        rank = random.random((len(pool), channels - 4)).argsort(axis=1).argsort(axis=1)
        pool[:, 4:] *= rank < further
        pool *= random.random((len(pool), 1)) ** _LEAN
    pool = np.round(pool, 3)
    sums = pool.sum(axis=1)
    edge = pool[sums > total_ink]
    edge = np.round(edge[: len(edge) // 6] * (total_ink / sums[sums > total_ink][: len(edge) // 6, None]), 3)
    pool = np.vstack([pool[sums <= total_ink], edge[edge.sum(axis=1) <= total_ink + 1e-9]])
    return pool if random is None else pool[random.permutation(len(pool))]


def _thin(pool: Array, fixed: Array, room: int) -> Array:
    """The `room` patches of `pool` farthest from one another and from `fixed`, greedily."""
    limit = min(len(pool), 6 * room)
    pool = pool[:limit]
    nearest = np.full(len(pool), np.inf)
    for start in range(0, len(fixed), 64):
        block = ((pool[:, None] - fixed[None, start : start + 64]) ** 2).sum(axis=2)
        nearest = np.minimum(nearest, block.min(axis=1))
    chosen = np.empty(room, dtype=int)
    for i in range(room):
        best = int(np.argmax(nearest))
        chosen[i] = best
        nearest = np.minimum(nearest, ((pool - pool[best]) ** 2).sum(axis=1))
        nearest[best] = -1.0
    return pool[np.sort(chosen)]


def control_strip(total_ink: float = 4.0) -> Array:
    """A strip with patches for every criterion of ISO 12647-7 and the G7 levels, CMYK.

    Paper, solids, secondaries, tints, the composed-grey scale, K scale, the gamut surface between
    neighbouring solids, and dark, skin and saturated mixtures.

    Gives (n, 4), fractions, with no sum above `total_ink`.
    """
    rows: list[npt.ArrayLike] = [np.zeros((1, 4))]
    rows += [_single(4, i, np.array([0.25, 0.5, 0.75, 1.0])) for i in range(4)]
    pairs = [(1, 1, 0, 0), (1, 0, 1, 0), (0, 1, 1, 0)]
    rows.append(np.array(pairs, dtype=float))
    rows.append(np.array(pairs, dtype=float) * 0.5)
    rows.append([(1, 1, 1, 0), (0.5, 0.5, 0.5, 0)])
    rows.append(np.hstack([near_neutral((0.1, 0.25, 0.4, 0.5, 0.6, 0.75, 0.9, 1.0)), np.zeros((8, 1))]))
    rows.append(_single(4, 3, np.array([0.1, 0.4, 0.6, 0.9])))
    rows.append(
        [(1, 0.5, 0, 0), (0.5, 1, 0, 0), (0, 1, 0.5, 0), (0, 0.5, 1, 0), (0.5, 0, 1, 0), (1, 0, 0.5, 0)]
    )
    rows.append(
        [
            (0.10, 0.30, 0.35, 0.0),
            (0.15, 0.45, 0.50, 0.0),
            (0.25, 0.55, 0.65, 0.15),
            (0.40, 0.65, 0.70, 0.35),
            (1, 0.9, 0.1, 0.2),
            (0.2, 1, 1, 0.2),
            (1, 0.3, 1, 0.2),
            (0.7, 0.6, 0.6, 0.6),
            (0.3, 0.25, 0.25, 0.3),
            (0.6, 0.4, 0.2, 0.1),
            (0.2, 0.1, 0.6, 0.05),
            (0.1, 0.5, 0.1, 0.0),
        ]
    )
    return _unique(_fit_total(np.vstack(rows), total_ink))


def design(
    purpose: str,
    channels: tuple[str, ...] = ("C", "M", "Y", "K"),
    count: int | None = None,
    total_ink: float | None = None,
    limits: Mapping[str, float] | None = None,
    seed: int = 1,
) -> Array:
    """Device values for a `purpose` of `PURPOSES`; `count` patches where the purpose has a choice.

    `total_ink` is a sum of fractions, 3 when left out. Raises `BadInput` for an unknown purpose or a
    count that the purpose cannot have.

    Gives (n, channels), fractions.

    >>> design("linearization", limits={c: 0.8 for c in "CMYK"}).shape
    (108, 4)
    """
    n = len(channels)
    total_ink = min(3.0, float(n)) if total_ink is None else total_ink
    if purpose != "profile" and is_additive(tuple(channels)):
        raise BadInput(
            f"a printer driven by {'+'.join(channels)} takes a profile chart alone, not a {purpose} chart"
        )
    tops = np.array([(limits or {}).get(c, 1.0) for c in channels])
    if count is not None and not 2 <= count <= 10000:
        raise BadInput(f"{count} patches cannot be laid out; ask for 2 to 10000")
    if not 1.0 <= total_ink <= n + 1e-9:
        raise BadInput(f"a total ink of {100 * total_ink:g} % is outside 100..{100 * n} %")
    if purpose in ("control-strip", "grey") and not set("CMYK") <= set(channels):
        raise BadInput(f"a {purpose} chart needs C, M, Y and K, which {'+'.join(channels)} does not have")
    builders: dict[str, Callable[[], Array]] = {
        "ink-limit": lambda: ink_limit_ramps(n, _steps(count, n, 21)) * tops,
        "linearization": lambda: linearization_ramps(tops, _steps(count, n, 25)),
        "total-ink": lambda: total_ink_steps(n, float(n), names=channels),
        "grey": lambda: among(grey_scales(4), channels),
        "profile": lambda: as_inks(
            profile_patches(count or (1500 if n > 1 else 64), total_ink, n, seed, channels), tuple(channels)
        ),
        "control-strip": lambda: np.vstack([among(control_strip(4.0), channels), further_tints(channels)]),
    }
    if purpose not in builders:
        raise BadInput(f"no chart for the purpose {purpose!r}; use one of {', '.join(PURPOSES)}")
    if count is not None and purpose not in ("ink-limit", "linearization", "profile"):
        raise BadInput(f"a {purpose} chart has a fixed number of patches; leave --patches out")
    return builders[purpose]()


def among(process: Array, channels: tuple[str, ...]) -> Array:
    """C M Y K values (n, 4) as values of a printer with further inks (n, channels), which print nothing."""
    values = np.zeros((len(process), len(channels)))
    values[:, [channels.index(c) for c in "CMYK"]] = process
    return values


def further_tints(channels: tuple[str, ...]) -> Array:
    """Solids and tints of 25, 50 and 75 % of each ink beside C, M, Y and K (n, channels)."""
    tints = np.array([0.25, 0.5, 0.75, 1.0])
    rows = [_single(len(channels), i, tints) for i, c in enumerate(channels) if c not in "CMYK"]
    return np.vstack(rows) if rows else np.zeros((0, len(channels)))


def _steps(count: int | None, channels: int, usual: int) -> int:
    return usual if count is None else max(3, round((count - 4) / channels))


def _single(channels: int, which: int, levels: Array) -> Array:
    values = np.zeros((len(levels), channels))
    values[:, which] = levels
    return values


def _fit_total(values: Array, total_ink: float) -> Array:
    sums = values.sum(axis=1, keepdims=True)
    return np.asarray(np.where(sums > total_ink, values * total_ink / np.maximum(sums, 1e-9), values))


def _unique(values: Array) -> Array:
    rounded = np.floor(values * 10000.0 + 1e-6) / 10000.0
    _, first = np.unique(rounded, axis=0, return_index=True)
    return np.asarray(rounded[np.sort(first)])
