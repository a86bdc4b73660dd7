"""The stand-in printer: it prints in its own time, uses what it has, has troubles, and loses nothing."""

from __future__ import annotations

import io
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.handling import Ability
from greyanchor.devices.ipp.client import IppClient, NoAnswer, Refused
from greyanchor.devices.ipp.encoding import Group, Tag, attribute, collection, flat, group
from greyanchor.devices.ipp.memory import IppMemory
from greyanchor.devices.ipp.names import JobState, Operation, PrinterState
from greyanchor.devices.ipp.queue import IppQueue
from greyanchor.devices.print_server.machine import MODELS, PrintingMachine
from greyanchor.devices.print_server.spool import Spool
from tests.devices.conftest import MEDIA, Running, print_file, until


def sent(printer: Running, path: Path, name: str = "a print") -> int:
    number = printer.client.make_job(name)
    printer.client.send(number, path)
    return number


def over(printer: Running, number: int) -> dict:
    return until(lambda: (s := printer.state(number))["job-state"] in (7, 8, 9) and s)


def test_a_print_takes_its_time_uses_ink_and_media_and_leaves_a_picture(
    printer: Running, tmp_path: Path
) -> None:
    before = flat(printer.client.printer().values())
    number = sent(printer, print_file(tmp_path / "a.tif"))
    done = over(printer, number)
    assert done["job-state"] == JobState.COMPLETED and done["job-media-progress"] == 100
    assert done["job-media-used"] == pytest.approx(5000, abs=5) and done["job-ink-names"] == "M"
    assert done["job-ink-used"] == 1500
    after = flat(printer.client.printer().values())
    assert before["stand-in-ink"][1] - after["stand-in-ink"][1] == 150
    sizes = [f["media-col-ready"]["media-size"]["y-dimension"] for f in (before, after)]
    assert sizes[0] - sizes[1] == pytest.approx(5000, abs=5)
    data = urllib.request.urlopen(done["job-more-info"], timeout=5).read()
    seen = np.array(Image.open(io.BytesIO(data)).convert("RGB")).astype(int)
    assert seen.shape[1] == pytest.approx(2 * seen.shape[0], abs=2)
    left, right = seen[:, 20], seen[:, -20]
    assert (right > 225).all() and left[:, 1].mean() < 100 < left[:, 0].mean(), "magenta, then bare paper"


def test_what_it_says_of_itself(printer: Running) -> None:
    found = flat(printer.client.printer().values())
    ready = found["media-col-ready"]
    assert ready["media-type"] == MEDIA and ready["media-size"]["x-dimension"] == 111_800
    assert found["marker-levels"] == [100] * 4 and found["printer-state"] == PrinterState.IDLE
    assert set(flat(printer.client.printer("printer-state", "marker-names").values())) == {
        "printer-state", "marker-names",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("trouble", "reason"),
    [
        ("jam", "media-jam-error"),
        ("cover-open", "cover-open-error"),
        ("out-of-ink", "marker-supply-empty-error"),
    ],
)
def test_trouble_stops_it_and_it_goes_on_where_it_was(
    printer: Running, tmp_path: Path, trouble: str, reason: str
) -> None:
    printer.server.machine.set("clock", 20.0)
    number = sent(printer, print_file(tmp_path / "a.tif", 400, 300))
    until(lambda: printer.state(number)["job-media-progress"] > 3)
    control = group(attribute("stand-in-trouble", Tag.KEYWORD, trouble))
    printer.client.ask(Operation.SET_PRINTER_ATTRIBUTES, printer=control)
    stopped = until(lambda: (s := printer.state(number))["job-state"] == JobState.STOPPED and s)
    said = flat(printer.client.printer("printer-state", "printer-state-reasons").values())
    assert said == {"printer-state": PrinterState.STOPPED, "printer-state-reasons": reason}
    assert 0 < stopped["job-media-progress"] < 100
    printer.server.machine.set("trouble", "none")
    printer.server.machine.set("clock", 5000.0)
    done = over(printer, number)
    assert done["job-state"] == JobState.COMPLETED and done["job-media-used"] == pytest.approx(30_000, abs=5)


def test_media_runs_out_in_the_middle_and_a_new_roll_goes_on(printer: Running, tmp_path: Path) -> None:
    printer.server.machine.set("length_mm", 120.0)
    number = sent(printer, print_file(tmp_path / "a.tif", 100, 300))
    stopped = until(lambda: (s := printer.state(number))["job-state"] == JobState.STOPPED and s)
    assert stopped["job-media-progress"] in (39, 40) and stopped["job-state-message"] == "media-empty-error"
    media = collection(attribute("media-type", Tag.NAME, MEDIA))
    printer.client.ask(
        Operation.SET_PRINTER_ATTRIBUTES, printer=group(attribute("media-col-ready", Tag.COLLECTION, media))
    )
    assert over(printer, number)["job-state"] == JobState.COMPLETED


def test_hold_release_cancel_and_order(printer: Running, tmp_path: Path) -> None:
    printer.client.ask(Operation.PAUSE_PRINTER)
    one, two, three = (sent(printer, print_file(tmp_path / f"{i}.tif")) for i in range(3))
    printer.client.act(Operation.HOLD_JOB, one)
    printer.client.act(Operation.CANCEL_JOB, two)
    assert printer.state(one)["job-state"] == JobState.HELD
    assert printer.state(two)["job-state"] == JobState.CANCELLED
    printer.client.ask(Operation.RESUME_PRINTER)
    assert over(printer, three)["job-state"] == JobState.COMPLETED
    assert printer.state(one)["job-state"] == JobState.HELD
    printer.client.act(Operation.RELEASE_JOB, one)
    assert over(printer, one)["job-state"] == JobState.COMPLETED
    with pytest.raises(Refused, match="is over"):
        printer.client.act(Operation.CANCEL_JOB, one)
    with pytest.raises(Refused, match="there is no job 99"):
        printer.client.job(99)


def test_a_print_is_cancelled_while_it_prints(printer: Running, tmp_path: Path) -> None:
    printer.server.machine.set("clock", 10.0)
    number = sent(printer, print_file(tmp_path / "a.tif", 400, 300))
    until(lambda: printer.state(number)["job-media-progress"] > 1)
    printer.client.act(Operation.CANCEL_JOB, number)
    done = over(printer, number)
    assert done["job-state"] == JobState.CANCELLED and 0 < done["job-media-used"] < 30_000


@pytest.mark.parametrize(
    ("changes", "why"),
    [
        ({"printer": "Gannet 64"}, "it was made for the printer Gannet 64, this is Petrel 44"),
        ({"ink_set": "Basalt UV"}, "made for the ink set Basalt UV"),
        ({"width_mm": 1200.0}, "it is 1200 mm wide, the machine 1118"),
    ],
    ids=["printer", "inks", "width"],
)
def test_a_print_file_for_another_machine_is_refused(
    printer: Running, tmp_path: Path, changes: dict, why: str
) -> None:
    width = changes.pop("width_mm", 100.0)
    done = over(printer, sent(printer, print_file(tmp_path / "a.tif", width, 10.0, **changes)))
    assert done["job-state"] == JobState.ABORTED and why in done["job-state-message"]
    assert done["job-media-used"] == 0


def test_a_print_wider_than_the_media_that_is_in_it_wastes_nothing(printer: Running, tmp_path: Path) -> None:
    printer.server.machine.set("width_mm", 610.0)
    done = over(printer, sent(printer, print_file(tmp_path / "a.tif", 700, 10)))
    assert "700 mm wide, the media in the machine 610" in done["job-state-message"]
    (tmp_path / "junk.tif").write_bytes(b"no TIFF at all")
    assert "no TIFF" in over(printer, sent(printer, tmp_path / "junk.tif"))["job-state-message"]


def test_a_power_cut_spoils_what_prints_and_keeps_what_waits(printer: Running, tmp_path: Path) -> None:
    printer.server.machine.set("clock", 10.0)
    first = sent(printer, print_file(tmp_path / "a.tif", 400, 300))
    second = sent(printer, print_file(tmp_path / "b.tif"))
    until(lambda: printer.state(first)["job-media-progress"] > 2)
    empty = printer.client.make_job("never sent")
    printer.power_cut()
    with pytest.raises(NoAnswer, match="cannot be reached"):
        printer.client.printer()
    printer.up()
    spoiled = printer.state(first)
    assert (
        spoiled["job-state"] == JobState.ABORTED
        and "the power went while it printed" in spoiled["job-state-message"]
    )
    assert printer.state(empty)["job-state"] == JobState.ABORTED
    assert over(printer, second)["job-state"] == JobState.COMPLETED
    assert printer.client.make_job("next") == empty + 1, "a number is never given twice"
    prints = (printer.folder / "prints.jsonl").read_text().splitlines()
    assert len(prints) == 2, "each print is remembered"


def test_slots_of_its_memory_go_over_the_line(printer: Running) -> None:
    facts = group(attribute("handling-slot-3", Tag.TEXT, '{"name": "Proof", "values": {"vacuum": 60}}'))
    printer.client.ask(Operation.SET_PRINTER_ATTRIBUTES, printer=facts)
    assert flat(printer.client.printer("handling-slot-3").values())["handling-slot-3"].startswith(
        '{"name": "Proof"'
    )
    with pytest.raises(Refused, match="slots 1 to 8"):
        wrong = group(attribute("handling-slot-9", Tag.TEXT, "{}"))
        printer.client.ask(Operation.SET_PRINTER_ATTRIBUTES, printer=wrong)


def test_bad_addresses_and_machines_are_named(printer: Running, tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="is no address of a printer"):
        IppClient("http://127.0.0.1/ipp/print")
    with pytest.raises(NoAnswer, match="cannot be reached"):
        IppClient("ipp://127.0.0.1:9/ipp/print").printer()
    with pytest.raises(BadInput, match="takes media of 50 to 1118 mm"):
        PrintingMachine(Spool(tmp_path / "x"), MODELS["petrel-44"], MEDIA, 5000.0)
    with pytest.raises(Refused, match="cannot be set"):
        printer.client.ask(
            Operation.SET_PRINTER_ATTRIBUTES, printer=group(attribute("printer-name", Tag.NAME, "x"))
        )
    assert printer.client.ask(Operation.GET_JOBS).all(Group.JOB) == []


ABILITIES = {
    "vacuum": Ability(0.0, 100.0, 5.0, 50.0),
    "feed": Ability(-1.0, 1.0, 0.05, 0.0),
}


def test_slots_are_kept_in_the_printer_and_outlive_a_power_cut(printer: Running) -> None:
    memory = IppMemory(printer.client, ABILITIES, 8)
    assert memory.read(1) == ("", {})
    memory.send(1, "Harbour Proof, contract proof", {"vacuum": 63.0, "feed": 0.12})
    assert memory.read(1) == ("Harbour Proof, contract "[:24], {"vacuum": 65.0, "feed": 0.1})
    printer.power_cut()
    printer.up()
    again = IppMemory(printer.client, ABILITIES, 8)
    assert again.read(1)[1] == {"vacuum": 65.0, "feed": 0.1}
    again.tune(1, "vacuum", 80.0)
    assert IppMemory(printer.client, ABILITIES, 8).read(1)[1]["vacuum"] == 80.0
    with pytest.raises(BadInput, match="slots 1 to 8, not 9"):
        memory.send(9, "x", {})
    with pytest.raises(BadInput, match="Vacuum of 120 % lies outside"):
        memory.send(2, "x", {"vacuum": 120.0})
    with pytest.raises(BadInput, match="slot 2 is empty"):
        memory.tune(2, "vacuum", 10.0)


def test_a_printer_that_holds_no_slots_takes_over_earlier_ones(printer: Running) -> None:
    earlier = {"3": {"name": "Deck", "values": {"vacuum": 40.0}}}
    assert IppMemory(printer.client, ABILITIES, 8, earlier).read(3) == ("Deck", {"vacuum": 40.0})
    assert IppMemory(printer.client, ABILITIES, 8).read(3) == ("Deck", {"vacuum": 40.0})


def test_a_machine_is_paused_and_goes_on(printer: Running) -> None:
    queue = IppQueue(printer.client)
    assert not queue.machine().is_paused
    queue.pause(True)
    said = queue.machine()
    assert said.is_paused and "it is paused" in said.reasons
    queue.pause(False)
    assert not queue.machine().is_paused


def test_a_print_dries_before_the_next_begins(printer: Running, tmp_path: Path) -> None:
    printer.server.machine.set("clock", 100.0)
    settings = {
        "environment": PrintEnvironment("Petrel 44", "Tarn pigment", MEDIA, 600, 8).as_dict(),
        "handling": {"sheet_pause": 100.0},
    }
    first = sent(printer, print_file(tmp_path / "a.tif", 40.0, 30.0, settings=settings))
    second = sent(printer, print_file(tmp_path / "b.tif", 40.0, 30.0, settings=settings))
    over(printer, first)
    ended = time.monotonic()
    until(lambda: printer.state(second)["job-state"] != 3)
    assert time.monotonic() - ended > 0.7, "a hundred seconds of its own, a hundred times as fast"
    over(printer, second)
