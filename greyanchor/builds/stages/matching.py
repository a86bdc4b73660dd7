"""Matching by eye: pairs of a dither and a tint, for media that no instrument reads."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages.accepted import decided
from greyanchor.builds.stages.names import INK_LIMITS
from greyanchor.core.calibration.byeye import MatchPair, match_pairs
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz
from greyanchor.core.verification.generic import generic_lab
from greyanchor.measuring.pipelines import channels_of, to_raw

#: how often each pair is matched
REPEATS = 2


def pairs(build: Build) -> dict[str, list[MatchPair]]:
    """Pairs to match for every channel, from the usual colours of its inks."""
    limits, inks = decided(build, INK_LIMITS)["limits"], channels_of(build.mode.ink_set)
    paper = lab_to_xyz(generic_lab(np.zeros((1, len(inks))), inks)[0])
    solids = lab_to_xyz(generic_lab(np.eye(len(inks)), inks))
    return {c: match_pairs(c, limits[c] / 100.0, paper, solids[i]) for i, c in enumerate(inks)}


def matched(stage: Stage, channel: str) -> dict[str, Any]:
    """Steps matched for a channel so far, percent by tone."""
    return dict(stage.options.get("matches", {}).get(channel, {}))


def step_widths(known: dict[str, list[MatchPair]]) -> dict[str, dict[str, float]]:
    """How far apart the steps of each pair are, percent, by channel and tone."""
    return {
        c: {f"{p.tone:g}": 100.0 * float(np.diff(p.steps).mean()) for p in mine} for c, mine in known.items()
    }


def raw_steps(build: Build, channel: str) -> Array:
    """Raw values of the paper, of the ink at its limit, and of the steps of every pair, (n, channels)."""
    decision, inks = decided(build, INK_LIMITS), channels_of(build.mode.ink_set)
    steps = [s for p in pairs(build)[channel] for s in p.steps]
    raw = np.zeros((2 + len(steps), len(inks)))
    raw[1:, inks.index(channel)] = [decision["limits"][channel] / 100.0, *steps]
    return to_raw(decision.get("splits", []), inks)(raw)
