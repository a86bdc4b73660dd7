"""Patches that characterization data lack, through a model of the data themselves."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from greyanchor.core.characterization.model import characterize
from greyanchor.core.charts import strips
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet

#: device values that count as the same patch, fraction
SAME = 0.0011
#: fewer patches than this do not carry a model that an aim may rest on
FEWEST = 100
#: mean dE00 of patches left out of the fit; data that fit worse are not interpolated
WORST_FIT = 1.5


def lacking(data: ReadingSet, device: Array) -> Array:
    """Those of the device values (n, channels) that the data do not hold, each once."""
    wanted = np.unique(np.round(np.asarray(device, dtype=float), 5), axis=0)
    distance, _ = cKDTree(data.values()).query(wanted, p=np.inf)
    return np.asarray(wanted[distance > SAME])


def strip_patches() -> Array:
    """CMYK (n, 4) of every patch of the control strips that a print is checked with."""
    kinds = [k for k in strips.STRIPS.values() if not k.places]
    return np.vstack([k.patches() for k in kinds])


def interpolated(data: ReadingSet, device: Array) -> ReadingSet:
    """Lab at device values (n, channels) that the data lack, each marked as interpolated.

    Parameters
    ----------
    data
        Characterization data with paper and solids.
    device
        Device values, fractions.

    Returns
    -------
    ReadingSet
        One patch for each, with ``INTERPOLATED`` in its meta: mean and 95th percentile of what the model is
        off by, dE00, on patches of the data that it did not see.

    Raises
    ------
    BadInput
        Where the data are too few, or do not follow one another well enough to be interpolated.
    """
    if len(data) < FEWEST:
        raise BadInput(
            f"{len(data)} patches are too few to interpolate others: at least {FEWEST}, with paper and solids"
        )
    model = characterize(data)
    off = model.held_out
    if off.mean > WORST_FIT:
        raise BadInput(
            f"a model of these data is off by {off.mean:.1f} dE00 on patches that it did not see, more than "
            f"{WORST_FIT:g}: patches that they lack are not interpolated"
        )
    lab = model.lab(np.asarray(device, dtype=float))
    return ReadingSet(
        ids=tuple(f"I{i + 1}" for i in range(len(device))),
        channels=data.channels,
        device=np.asarray(device, dtype=float),
        measured_lab=lab,
        condition=data.condition,
        meta={"INTERPOLATED": f"{off.mean:.2f} mean, {off.p95:.2f} 95th percentile dE00 held out"},
    )
