"""Ramps and presses."""

from __future__ import annotations

import numpy as np

from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.inks import ink_absorption
from greyanchor.core.simulation.press import MediaModel, SimulatedPress


def any_press(seed: int) -> SimulatedPress:
    """A press nobody tuned anything on: other media, inks, heat, passes and overdrive."""
    r = np.random.default_rng(seed)
    media = MediaModel(
        "unknown",
        r.uniform(0.8, 0.92),
        r.uniform(0.03, 0.12),
        r.uniform(0, 0.11),
        r.uniform(0.85, 1.4),
        r.uniform(0.6, 1.25),
        r.uniform(1.6, 3.0),
        r.uniform(0.004, 0.02),
        r.uniform(0.003, 0.012),
        36.0,
    )
    inks = str(r.choice(["Tarn pigment", "Basalt UV"]))
    environment = PrintEnvironment(
        "p", inks, "unknown", passes=int(r.choice([4, 6, 8, 12, 16])), heat=r.uniform(28, 44)
    )
    return SimulatedPress(
        media, environment, r.uniform(1.0, 2.2), ink_absorption(inks) * r.uniform(0.7, 1.4, (4, 1))
    )
