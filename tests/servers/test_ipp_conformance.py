"""Other makers' programs at our printer, our client at another maker's (Debian's cups-ipp-utils)."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from PIL import Image
from reportlab.pdfgen.canvas import Canvas

from greyanchor.devices.ipp.client import IppClient
from greyanchor.devices.ipp.encoding import flat
from greyanchor.devices.ipp.names import Operation
from tests.devices.conftest import Running, print_file, until

BUS = Path("/run/dbus/system_bus_socket")
SUITES = Path("/usr/share/cups/ipptool")


@pytest.fixture(scope="module")
def suites(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The suites with the documents that they ask for, which the package does not hold."""
    if shutil.which("ipptool") is None or not SUITES.exists():
        pytest.skip("ipptool is not installed (Debian: cups-ipp-utils)")
    folder = tmp_path_factory.mktemp("suites")
    for path in SUITES.glob("*.test"):
        shutil.copy(path, folder)
    for name, size in (("a4", (595, 842)), ("letter", (612, 792))):
        page = Canvas(str(folder / f"document-{name}.pdf"), pagesize=size)
        page.drawString(72, 72, "A page for the tests of printing")
        page.save()
        (folder / f"document-{name}.ps").write_text("%!PS\nshowpage\n")
    for name, mode in (("color", "RGB"), ("gray", "L")):
        Image.new(mode, (120, 80), 128 if mode == "L" else (200, 60, 90)).save(folder / f"{name}.jpg")
    return folder


@pytest.mark.parametrize("suite", ["ipp-1.1.test", "ipp-2.0.test"])
def test_our_printer_fails_no_test_of_the_suite(suites: Path, tmp_path: Path, suite: str) -> None:
    printer = Running(tmp_path / "spool", clock=40.0)
    document = print_file(tmp_path / "print.tif", 200.0, 100.0)
    shutil.copy(document, suites / "print.tif")
    version = suite.removeprefix("ipp-").removesuffix(".test")
    command = ["ipptool", "-V", version, "-t", "-f", "print.tif", "-d", "filetype=image/tiff",
               printer.server.address, suite]  # fmt: skip
    done = subprocess.run(command, cwd=suites, capture_output=True, text=True, timeout=120, check=False)
    said = done.stdout + done.stderr
    printer.server.shutdown()
    printer.server.server_close()
    assert done.returncode == 0 and "[FAIL]" not in said, said[-3000:]
    assert said.count("[PASS]") >= 25, said


def bus_answers() -> bool:
    """Whether the system bus is there, and not only its socket."""
    with socket.socket(socket.AF_UNIX) as line:
        return line.connect_ex(str(BUS)) == 0


@pytest.fixture
def foreign(tmp_path: Path) -> Iterator[str]:
    """Another maker's printer: it wants a system bus and a name service running."""
    if shutil.which("ippeveprinter") is None or shutil.which("avahi-daemon") is None:
        pytest.skip("ippeveprinter is not installed (Debian: cups-ipp-utils, avahi-daemon)")
    started = []
    if not bus_answers():
        BUS.parent.mkdir(parents=True, exist_ok=True)
        BUS.unlink(missing_ok=True)
        started.append(subprocess.Popen(["dbus-daemon", "--system", "--nofork", "--nopidfile"]))
        until(bus_answers)
    if subprocess.run(["avahi-daemon", "--check"], check=False).returncode:
        started.append(
            subprocess.Popen(
                ["avahi-daemon", "--no-rlimits", "--no-drop-root", "--no-chroot"],
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )
        )  # fmt: skip
        time.sleep(1.0)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    (tmp_path / "spool").mkdir()
    server = subprocess.Popen(
        ["ippeveprinter", "-p", str(port), "-d", str(tmp_path / "spool"), "-k",
         "-f", "image/jpeg,image/pwg-raster", "-n", "localhost", "Foreign"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    address = f"ipp://localhost:{port}/ipp/print"
    client = IppClient(address)

    def answers() -> bool:
        try:
            return bool(client.printer("printer-state"))
        except Exception:
            return False

    try:
        try:
            until(answers, 15.0)
        except AssertionError:
            pytest.skip("ippeveprinter does not start here")
        yield address
    finally:
        for process in (server, *reversed(started)):
            process.terminate()
            process.wait(10)


def test_our_client_prints_on_another_maker_s_printer(foreign: str, tmp_path: Path) -> None:
    client = IppClient(foreign)
    said = flat(client.printer().values())
    assert said["printer-state"] in (3, 4) and "image/jpeg" in said["document-format-supported"]
    assert said["media-col-ready"], "what is in it, as a collection"
    picture = tmp_path / "picture.jpg"
    Image.new("RGB", (600, 400), (30, 120, 160)).save(picture)
    number = client.make_job("GA-1 picture")
    client.send(number, picture, "image/jpeg")
    done = until(lambda: (s := flat(client.job(number).values()))["job-state"] >= 7 and s, 60.0)
    assert done["job-state"] == 9 and done["job-name"] == "GA-1 picture"
    assert number in [flat(j.values())["job-id"] for j in client.jobs("completed")]
    held = client.make_job("GA-2")
    client.act(Operation.CANCEL_JOB, held)
    assert flat(client.job(held).values())["job-state"] == 7
