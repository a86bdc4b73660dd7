"""The example package is installed, found by the registry, kept to the contract, and prints a chart."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import run_in

ROOT = Path(__file__).parents[2]

HELD = """
import sys
from pathlib import Path
from greyanchor.devices.contract import check_driver
from greyanchor.devices.registry import driver_named, drivers
from tests.drivers.devices import ENVIRONMENT, connection
check_driver(driver_named("lantern"), connection("lantern", Path(sys.argv[1])), ENVIRONMENT)
print(*drivers())
"""

PRINTED = """
import sys
import django; django.setup()
from django.conf import settings
from django.contrib.auth.models import User
from greyanchor.builds.models import Build
from greyanchor.builds.lifecycle.start import start_build
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.library.machines.connections import Choice, connect_printer
from greyanchor.library.models import DeviceConnection, Media, Printer
from greyanchor.measuring.printing import print_sheet
from tests.web.conftest import CHOICES
user, printer = User.objects.get(username="ines"), Printer.objects.get(name="Petrel 44")
try:
    connect_printer(printer, Choice("lantern", {"tray": "east"}), user)
except BadInput as error:
    print(error)
connect_printer(printer, Choice("lantern", {"tray": "north"}), user)
media = Media.objects.get(name="Harbour Proof Semimatt 235")
build = start_build("Lantern mode", printer, printer.ink_sets.first(), media, CHOICES, user)
job = print_sheet(build.stages.get(kind="ink-limits").sheet_print.pk, user)
tray = settings.DEVICES_HOME / "north"
print(job.device, job.ticket["driver"], DeviceConnection.objects.get(printer=printer).state)
printed = cgats.loads((tray / f"{job.ticket['number']}.txt").read_bytes(), "tray")
print(printed.content_hash() == job.raw_chart.content_hash())
"""


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where the example was installed, beside the packages of this environment."""
    source, target = tmp_path_factory.mktemp("source") / "driver", tmp_path_factory.mktemp("installed")
    shutil.copytree(ROOT / "examples" / "driver", source)
    command = ["-m", "pip", "install", "--quiet", "--no-deps", "--no-build-isolation", "--no-index"]
    done = subprocess.run(
        [sys.executable, *command, "--target", str(target), str(source)], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    return target


def test_an_installed_driver_is_found_and_keeps_to_the_contract(installed: Path, tmp_path: Path) -> None:
    done = run_in(tmp_path, "-c", HELD, str(tmp_path), PYTHONPATH=f"{installed}:{ROOT}")
    assert done.returncode == 0, done.stderr
    known = ["folder", "lantern", "ipp", "standin", "standin-light", "standin-densitometer"]
    assert done.stdout.split() == known


def test_a_printer_is_connected_to_an_installed_driver_and_prints(
    installed: Path, served_home: Path, tmp_path: Path
) -> None:
    home = tmp_path / "home"
    shutil.copytree(served_home, home)
    done = run_in(home, "-c", PRINTED, PYTHONPATH=f"{installed}:{ROOT}")
    assert done.returncode == 0, done.stderr
    assert done.stdout.splitlines() == [
        "the Lantern has the trays north and south, not east",
        "Lantern lantern {'prints': 1}",
        "True",
    ]
