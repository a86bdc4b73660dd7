"""Whether readings can carry a profile: refused when they cannot, warned about when they barely do."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from greyanchor.core.characterization.model import ForwardModel, strays
from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet, match_chart

#: full ink closer to paper than this (Lab distance) did not print
LEAST_SOLID = 12.0
#: unseen patches farther off than this on average (dE00) are not one chart read once
HOPELESS = 5.0
_NOISY, _UNSURE, _THIN = 0.6, 0.8, 0.15


def check_colours(readings: ReadingSet) -> None:
    """Refuse readings whose inks did not print: `BadInput` names the ink and what to do."""
    device, lab = readings.inks(), readings.lab()
    if float(np.linalg.norm(lab - lab.mean(axis=0), axis=1).max()) < LEAST_SOLID:
        raise BadInput("all patches read alike: the instrument did not move, or an unprinted sheet was read")
    paper = lab[device.max(axis=1) < 0.005].mean(axis=0)
    for i, channel in enumerate(readings.channels):
        alone = (device[:, i] > 0.98) & (np.delete(device, i, axis=1).max(axis=1, initial=0.0) < 0.005)
        if alone.any():
            away = float(np.linalg.norm(lab[alone].mean(axis=0) - paper))
            if away < LEAST_SOLID:
                raise BadInput(
                    f"full {channel} reads only {away:.0f} from paper in Lab: that ink did not "
                    "print; check "
                    "the nozzles"
                )


def check_model(model: ForwardModel) -> None:
    """Refuse a model whose patches do not predict one another.

    Raises `BadInput` with what is likely to have happened to the readings.
    """
    if model.held_out.mean > HOPELESS:
        raise BadInput(
            f"patches predict one another only to {model.held_out.mean:.1f} dE00: "
            "rows are mixed up, or two charts or prints were put together"
        )


def warnings(readings: ReadingSet, model: ForwardModel) -> list[str]:
    """What makes a profile of these readings worse than it could be, and what to do; empty when nothing
    does.
    """
    items = _stray_repeats(readings)
    noise = repeat_noise(readings)
    if noise is not None and noise > _NOISY:
        items.append(
            f"repeated patches lie {noise:.1f} dE00 from their mean: read the chart once more, or ask for "
            "several readings of each patch"
        )
    if model.held_out.mean > _UNSURE:
        items.append(
            f"unseen patches are predicted only to {model.held_out.mean:.1f} dE00 mean: a larger chart, or "
            "another reading of it, helps"
        )
    hole = emptiest(readings.inks())
    if hole[1] > _THIN:
        where = " ".join(f"{c} {100 * v:.0f}" for c, v in zip(readings.channels, hole[0]))
        items.append(
            f"the chart is thin around {where} %: its nearest patch differs by {100 * hole[1]:.0f} % in the "
            "inks' mean"
        )
    return items


def _stray_repeats(readings: ReadingSet) -> list[str]:
    """Repeated patches, the paper first, of which one reading disagrees with the others and was left out."""
    inks, lab = readings.inks(), readings.lab()
    out = strays(inks, lab)
    if not out.any():
        return []
    items = []
    paper = inks.max(axis=1) < 0.005
    for members, what in ((out & paper, "paper patch"), (out & ~paper, "repeated patch")):
        for i in np.flatnonzero(members)[:4]:
            like = np.abs(inks - inks[i]).max(axis=1) < 1e-4
            off = float(delta_e_2000(lab[i], np.median(lab[like & ~out], axis=0)))
            items.append(
                f"{what} {readings.ids[i]} reads {off:.1f} dE00 from its {int(like.sum()) - 1} repeats and "
                "was left out: look for a speck or a shadow there, and read its row again"
            )
    return items


def repeat_noise(readings: ReadingSet) -> float | None:
    """Mean dE00 of repeated patches from the mean of their like; None without repeats."""
    centre, repeated, _ = _like(readings)
    if not repeated.any():
        return None
    return float(delta_e_2000(readings.lab()[repeated], centre[repeated]).mean())


def repeat_spread(readings: ReadingSet) -> float:
    """Standard deviation of one value of Lab, pooled over repeated patches; 0 without repeats."""
    centre, repeated, groups = _like(readings)
    freedom = int(repeated.sum()) - groups
    if freedom < 4:
        return 0.0
    squares = (readings.lab()[repeated] - centre[repeated]) ** 2
    return float(np.sqrt(squares.sum() / (3.0 * freedom)))


def double_spread(passes: Sequence[ReadingSet]) -> float:
    """Standard deviation of one value of Lab in the mean of several passes over one sheet; 0 with one
    pass.
    """
    if len(passes) < 2:
        return 0.0
    labs = np.stack([match_chart(passes[0], p).lab() for p in passes])
    return float(np.sqrt(labs.var(axis=0, ddof=1).mean() / len(passes)))


def _like(readings: ReadingSet) -> tuple[Array, Array, int]:
    """Mean Lab (n, 3) of each patch's like, which patches (n,) are repeated, and how many kinds of those
    there are.
    """
    _, group, count = np.unique(
        np.round(readings.values(), 4), axis=0, return_inverse=True, return_counts=True
    )
    group = group.reshape(-1)
    centre = np.stack([np.bincount(group, values) / count for values in readings.lab().T], axis=1)
    return centre[group], count[group] > 1, int((count > 1).sum())


def emptiest(device: Array, count: int = 1500) -> tuple[Array, float]:
    """The device value (channels,) inside the chart's ink range that is farthest from any patch, and how far
    (mean of inks).
    """
    pool = np.random.default_rng(11).random((count, device.shape[1]))
    pool = pool[pool.sum(axis=1) <= device.sum(axis=1).max()]
    nearest = np.full(len(pool), np.inf)
    for start in range(0, len(device), 256):
        block = np.abs(pool[:, None] - device[None, start : start + 256]).mean(axis=2)
        nearest = np.minimum(nearest, block.min(axis=1))
    worst = int(nearest.argmax())
    return pool[worst], float(nearest[worst])
