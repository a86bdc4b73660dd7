"""Prints on a machine that answers by IPP: sent once, followed, and gone on with after every kill."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.accounts.roles import acting
from greyanchor.core.errors import BadInput
from greyanchor.devices.ipp.client import NoAnswer
from greyanchor.devices.ipp.queue import IppQueue
from greyanchor.library.models import DeviceConnection
from greyanchor.printroom import files, prints
from greyanchor.printroom.models import Print, PrintFile
from tests.devices.conftest import Running, print_file, until

State = Print.State


def swept(record: Print, wanted: str, seconds: float = 15.0) -> Print:
    def there() -> Print | None:
        prints.sweep()
        record.refresh_from_db()
        return record if record.state == wanted else None

    return until(there, seconds)


def test_from_held_to_the_table(prepared: PrintFile, user: User, machine: Running) -> None:
    with acting(user):
        record = prints.order(prepared, user)
        prints.sweep()
        record.refresh_from_db()
        assert record.state == State.HELD and machine.client.jobs() == []
        prints.go(record)
    done = swept(record, State.DONE)
    assert done.share == 1.0 and done.media_mm == pytest.approx(prints.size_mm(done)[1], abs=0.2)
    assert sum(done.ink_ml.values()) == pytest.approx(
        sum(prepared.facts["ink_ml"].values()), rel=0.1, abs=0.01
    )
    assert done.started_at and done.ended_at and files.local(done.picture).read_bytes().startswith(b"\x89PNG")
    assert len((machine.folder / "prints.jsonl").read_text().splitlines()) == 1


@pytest.mark.parametrize(
    ("name", "value", "why"),
    [
        ("media", "Tideline Matt 140", "in the machine is Tideline Matt 140"),
        ("length_mm", 5.0, "0.01 m are left"),
        ("ink_M", 0.0, "M is empty"),
    ],
    ids=["media", "length", "ink"],
)
def test_what_would_go_wrong_is_said_before(
    prepared: PrintFile, user: User, machine: Running, name: str, value: Any, why: str
) -> None:
    with acting(user):
        record = prints.order(prepared, user)
        machine.server.machine.set(name, value)
        with pytest.raises(BadInput, match=why):
            prints.go(record)
        Print.objects.update(state=State.READY)
    prints.sweep()
    record.refresh_from_db()
    assert record.state == State.HELD and why in record.reason, "it is held, nothing was wasted"
    assert machine.client.jobs("completed") == []


def test_the_list_is_the_shop_s_own(prepared: PrintFile, user: User, machine: Running) -> None:
    machine.server.machine.set("paused", True)
    with acting(user):
        made = [prints.order(prepared, user, hold=False) for _ in range(5)]
        prints.sweep()
        states = [Print.objects.get(pk=m.pk).state for m in made]
        assert states == ["waiting", "waiting", "ready", "ready", "ready"], "two at a time are at the machine"
        prints.move(made[4], made[2])
        with pytest.raises(BadInput, match="not sent yet can be moved"):
            prints.move(Print.objects.get(pk=made[0].pk), None)
        prints.hold(Print.objects.get(pk=made[3].pk))
        prints.cancel(Print.objects.get(pk=made[1].pk))
        order = list(
            Print.objects.filter(state__in=["ready", "held"]).order_by("place").values_list("pk", flat=True)
        )
        assert order == [made[4].pk, made[2].pk, made[3].pk]
    machine.server.machine.set("paused", False)
    swept(made[2], State.DONE)
    found = {m.pk: Print.objects.get(pk=m.pk) for m in made}
    assert found[made[1].pk].state == State.CANCELLED and found[made[3].pk].state == State.HELD
    assert found[made[4].pk].number < found[made[2].pk].number, "it was moved before it"


def test_a_stopped_machine_goes_on_and_a_power_cut_fails_one_print(
    prepared: PrintFile, user: User, machine: Running
) -> None:
    with acting(user):
        record = prints.order(prepared, user, hold=False)
        machine.server.machine.set("clock", 1.0)
        swept(record, State.PRINTING)
        machine.server.machine.set("trouble", "jam")
        stopped = swept(record, State.STOPPED)
        assert stopped.reason == "the media is jammed"
        machine.power_cut()
        prints.sweep()
        record.refresh_from_db()
        assert record.state == State.STOPPED and "cannot be reached" in record.reason
        machine.up()
        failed = swept(record, State.FAILED)
        assert "the power went while it printed" in failed.reason
        machine.server.machine.set("trouble", "none")
        second = prints.again(failed, user)
        assert second.state == State.HELD and second.again_of == failed
        prints.go(second)
    swept(second, State.DONE)


class Killed(BaseException):
    """The worker is gone."""


class Unsteady:
    """A queue whose worker is killed, or whose line is cut, before or after any call."""

    def __init__(self, inner: IppQueue, chance: random.Random, share: float) -> None:
        self._inner, self._chance, self._share = inner, chance, share

    def __getattr__(self, name: str) -> Callable[..., Any]:
        act = getattr(self._inner, name)

        def call(*given: Any) -> Any:
            self._fault("before")
            found = act(*given)
            self._fault("after")
            return found

        return call

    def _fault(self, when: str) -> None:
        if self._chance.random() < self._share:
            raise Killed(when) if self._chance.random() < 0.5 else NoAnswer(f"the line was cut {when}")


def test_no_print_is_lost_or_printed_twice_whatever_is_killed(
    prepared: PrintFile, user: User, machine: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = random.Random(4)
    whole = prints.queue_of
    monkeypatch.setattr(prints, "queue_of", lambda p: Unsteady(whole(p), chance, 0.12))
    machine.server.machine.set("clock", 100_000.0)
    with acting(user):
        made = [prints.order(prepared, user, hold=False) for _ in range(14)]
    kills = 0

    def over() -> bool:
        nonlocal kills
        try:
            prints.sweep()
        except Killed:
            kills += 1
        return not Print.objects.exclude(state__in=Print.OVER).exists()

    until(over, 90.0)
    assert kills > 5
    assert {p.state for p in Print.objects.all()} == {State.DONE}
    done = [j for j in machine.server.machine.spool.jobs.values() if j.state == 9]
    assert len(done) == len(made) == len({j.name for j in done}), "each once, and no other"


def test_a_print_file_for_another_edition_is_not_printed(prepared: PrintFile, user: User) -> None:
    PrintFile.objects.update(ticket={**prepared.ticket, "edition": 99})
    with acting(user), pytest.raises(BadInput, match="another edition"):
        prints.order(PrintFile.objects.get(), user)
    PrintFile.objects.update(state="failed")
    with acting(user), pytest.raises(BadInput, match="not prepared"):
        prints.order(PrintFile.objects.get(), user)


def test_a_printer_without_an_address_says_so(prepared: PrintFile, user: User, client: Client) -> None:
    DeviceConnection.objects.update(options={})
    with acting(user):
        record = prints.order(prepared, user)
        with pytest.raises(BadInput, match="give it an address under Devices"):
            prints.go(record)


def test_a_sheet_of_the_machine_is_read_back(tmp_path: Path, machine: Running) -> None:
    queue = IppQueue(machine.client)
    number = queue.send("abc123", "a print", print_file(tmp_path / "x.tif"))
    assert queue.send("abc123", "a print", print_file(tmp_path / "x.tif")) == number, "it is there already"
    found = queue.find("abc123")
    assert found is not None and found.number == number and queue.find("another") is None
    said = queue.machine()
    assert said.width_mm == 1118.0 and said.ink_set == "Tarn pigment" and set(said.inks) == set("CMYK")
