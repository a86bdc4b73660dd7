"""What several tests share: a small stand-in print room."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Generator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.inklimit import find_limits
from greyanchor.core.calibration.linearization import linearize
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import spectra_to_lab
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.build import ProfileResult, ProfileSettings, build_profile
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.tables import TableSizes
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read

CMYK = tuple("CMYK")


#: files whose tests use a browser in the second of two rows, with other makers' servers; the others, and all
#: that drive a server, are in the first
SECOND_ROW = ("test_profiles", "test_checks", "test_whole_way")
#: when the parts of the suite begin, the second row after whatever is 1
BEGINS = {"browser": 0, "core": 1, "scripts": 1, "drivers": 1, "devices": 1, "servers": 1, "web": 3}
TESTS = Path(__file__).parent


@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> Generator[None, None, None]:
    """Tests that drive the real server follow one another in two rows, so that few servers and browsers race
    for a core.

    The others go to the workers file by file: what a file prepares is prepared once. The first row begins at
    once and the second after the core, so that both workers end at about the same time.
    """
    begins: dict[str, int] = {}
    for item in items:
        within = item.path.relative_to(TESTS)
        part, group = within.parts[0], str(within)
        begins[item.nodeid] = BEGINS[part]
        if part == "browser":
            second = item.path.stem in SECOND_ROW
            group = "browser two" if second else "browser"
            begins[item.nodeid] = 2 if second else 0
        elif part == "servers":
            group, begins[item.nodeid] = "browser two", 2
        elif "served_home" in getattr(item, "fixturenames", ()):
            group = "browser"
        if part in ("browser", "servers"):
            # what drives real servers on a busy machine is tried once more before it counts
            item.add_marker(pytest.mark.flaky(reruns=1))
        item.add_marker(pytest.mark.xdist_group(group))
    yield
    items.sort(key=lambda item: begins[item.nodeid.split("@")[0]])


PEOPLE_AND_MACHINES = """
import django; django.setup()
from greyanchor.operations import tables
tables.bring_up_to_date()
from greyanchor.demo import seed as demo
from greyanchor.demo.seed import northlight_coated
demo.people_and_machines(); northlight_coated()
from greyanchor.operations import static
static.collect()
"""


def run_in(
    home: Path, *command: str, cwd: Path | None = None, **variables: str
) -> subprocess.CompletedProcess[str]:
    """Run Python in a process of its own, with the application's settings and a home of its own."""
    dropped = ("DJANGO_SETTINGS_MODULE", "SECRET_KEY", "PYTHONDONTWRITEBYTECODE")
    kept = {k: v for k, v in os.environ.items() if k not in dropped}
    environment = {
        **kept,
        "GREYANCHOR_HOME": str(home),
        "DJANGO_SETTINGS_MODULE": "tests.served_settings",
        "PYTHONPATH": str(TESTS.parent),
        **variables,
    }
    return subprocess.run(
        [sys.executable, *command], env=environment, capture_output=True, text=True, cwd=cwd
    )


@pytest.fixture(scope="session")
def served_home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A home with people, machines and media of the demo and nothing else, made once; tests copy it."""
    home = tmp_path_factory.mktemp("plain")
    made = run_in(home, "-c", PEOPLE_AND_MACHINES)
    assert made.returncode == 0, made.stderr
    return home


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
