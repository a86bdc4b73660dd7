"""What several tests share: a small stand-in print room."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colorimetry import spectra_to_lab
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.readings import ReadingSet
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read

CMYK = tuple("CMYK")


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Tests in a browser follow one another in one worker, so that no two servers and browsers race for a core."""
    for item in items:
        if "browser" in item.path.parts:
            item.add_marker(pytest.mark.xdist_group("browser"))


@dataclass
class PrintRoom:
    """A press with the limits and curves that the engine found for it."""

    press: SimulatedPress
    limits: dict[str, float]
    curves: CurveSet

    def truth(self, device: np.ndarray) -> np.ndarray:
        """Lab that the nominal press prints for linearized values: what no builder sees."""
        return spectra_to_lab(self.press.spectra(self.curves.apply(device)))

    def read(
        self, device: np.ndarray, seed: int = 5, reading: int = 1, shuffle: int | None = 3
    ) -> ReadingSet:
        chart, _ = lay_out(device, CMYK, shuffle_seed=shuffle)
        return print_and_read(chart, self.press, seed, reading, pipeline=self.curves.apply)


def make_room(name: str) -> PrintRoom:
    press = press_by_name(name)
    chart, _ = lay_out(patches.design("ink-limit"), CMYK)
    limits = {c: f.limit for c, f in find_limits(print_and_read(chart, press, 1)).items()}
    chart, _ = lay_out(patches.design("linearization", limits=limits), CMYK)
    curves = linearize(print_and_read(chart, press, 2), limits).curves
    return PrintRoom(press, limits, curves)


@pytest.fixture(scope="session")
def room() -> PrintRoom:
    return make_room("petrel-44")


@pytest.fixture(scope="session")
def profile_readings(room: PrintRoom) -> ReadingSet:
    return room.read(patches.profile_patches(500, 3.0))


@pytest.fixture(scope="session")
def built(profile_readings: ReadingSet) -> ProfileResult:
    """One quick profile that many tests look at."""
    settings = ProfileSettings(
        Separation(total_ink=3.0), title="Quay proof — № 1", sizes=TableSizes(13, 13, 25, 17, 13)
    )
    return build_profile(profile_readings, settings)
