"""Refining a profile by prints made through it: the chart, what its readings teach, and when to stop."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.characterization import residual, trust
from greyanchor.core.characterization.model import FitReport, ForwardModel
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet, as_inks, is_additive
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import one_thread

CHART_PATCHES = 240
_GREYS = 24
_REPEATED = 16
#: what is left after a round is noise when it is no more than this many times the noise itself
_NOISE_SHARE = 1.15
#: a print farther than this from the profile (mean dE00) is of another mode, paper or chart
ANOTHER_PRINT = 8.0
#: a print farther off than this (mean dE00) says that the machine has moved since the chart was read
MOVED = 2.0
LEAST_PATCHES = 40


@dataclass(frozen=True)
class Round:
    """What one print through the profile showed; differences are dE00.

    Attributes
    ----------
    patches
        Different colours read.
    off
        The print held to what the profile predicted.
    expected
        The same after the correction, predicted for patches that were not used (leave-one-out).
    noise
        Mean difference that noise alone makes.
    """

    patches: int
    off: FitReport
    expected: FitReport
    noise: float

    @property
    def at_noise(self) -> bool:
        """Whether what the print was off by is noise, so that another round teaches nothing."""
        return self.off.mean <= _NOISE_SHARE * max(self.noise, 0.05)

    @property
    def helps(self) -> bool:
        """Whether the correction is expected to bring the print nearer."""
        return not self.at_noise and self.expected.mean < 0.97 * self.off.mean


def chart(profile: icc.IccProfile, count: int = CHART_PATCHES, seed: int = 1) -> Array:
    """Device values (n, channels) that the profile prints evenly spread colours and greys with.

    A grey axis from white to black, an even (Sobol) fill of the printable colours, and some of the
    colours again, so that the noise of the print shows.

    Raises `BadInput` for a `count` that cannot refine a profile.
    """
    if not LEAST_PATCHES <= count <= 3000:
        raise BadInput(f"{count} patches cannot refine a profile; ask for {LEAST_PATCHES} to 3000")
    grey = np.column_stack([np.linspace(99.0, 2.0, _GREYS), np.zeros((_GREYS, 2))])
    fill = _colours(profile, count - _GREYS - _REPEATED, seed)
    device = np.vstack([profile.lab_to_device(grey, "relative"), profile.lab_to_device(fill)])
    device = np.round(np.clip(device, 0.0, 1.0), 4)
    again = np.linspace(0, len(device) - 1, _REPEATED).astype(int)
    return np.vstack([device, device[again]])


def _colours(profile: icc.IccProfile, count: int, seed: int) -> Array:
    """Printable Lab (count, 3), absolute, evenly spread."""
    random = sobol(3, 15, seed)
    lab = np.array([0.0, -100.0, -100.0]) + random * np.array([100.0, 200.0, 210.0])
    back = profile.device_to_lab(profile.lab_to_device(lab))
    inside = lab[np.linalg.norm(back - lab, axis=1) < 2.0]
    if len(inside) < count:
        raise BadInput("this profile prints too few colours to refine it")
    return np.asarray(inside[:count])


@one_thread
def learn(
    model: ForwardModel, profile: icc.IccProfile, prints: Sequence[ReadingSet], noise: float = 0.0
) -> tuple[ForwardModel, Round]:
    """Correct `model` by all `prints` made so far through profiles of it, the newest last.

    `profile` is the one the newest print was made through. The correction is a smooth surface, learned
    again from all prints together, so that their noise falls. Raises `BadInput` for readings that are of
    another print.
    """
    bare = replace(model, corrections=())
    newest = prints[-1]
    measured = _lab(model, newest)
    predicted = profile.device_to_lab(as_inks(newest.inks(), profile.inks))
    off = delta_e_2000(predicted, measured)
    if len(newest) < LEAST_PATCHES:
        raise BadInput(
            f"{len(newest)} patches are too few to refine a profile; at least {LEAST_PATCHES} are needed"
        )
    if off.mean() > ANOTHER_PRINT:
        raise BadInput(
            f"the print is {off.mean():.1f} dE00 mean from what the profile predicts: it is another mode or "
            "paper, "
            "or was not made through this profile; nothing was changed"
        )
    spread = noise or trust.repeat_spread(newest)
    inks = np.vstack([p.inks() for p in prints])
    wanted = np.vstack([_lab(model, p) for p in prints])
    places, group, counts = np.unique(np.round(inks, 4), axis=0, return_inverse=True, return_counts=True)
    group = group.reshape(-1)
    mean = np.stack([np.bincount(group, values) / counts for values in wanted.T], axis=1)
    left = mean - bare.lab(places)
    surface = residual.fit(bare.features(places), left, counts, spread, not is_additive(bare.channels))
    corrected = replace(bare, corrections=(surface,))
    expected = delta_e_2000(mean, mean + surface.left_out)
    return corrected, Round(len(places), FitReport.of(off), FitReport.of(expected), _noise_of(newest, spread))


def _lab(model: ForwardModel, readings: ReadingSet) -> Array:
    """Lab (n, 3) under the light that the model was made for."""
    if readings.spectra is not None and len(model.to_xyz) == readings.spectra.shape[1]:
        return xyz_to_lab(readings.spectra @ model.to_xyz)
    return readings.lab()


def _noise_of(readings: ReadingSet, spread: float) -> float:
    """Mean dE00 that a standard deviation of `spread` in each value of Lab makes; seeded."""
    lab = readings.lab()
    random = np.random.default_rng(12).standard_normal(lab.shape) * spread
    return float(delta_e_2000(lab, lab + random).mean())
