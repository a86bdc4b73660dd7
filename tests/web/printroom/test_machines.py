"""The roll of a machine, its list, and the ledger of what was printed, as pages."""

from __future__ import annotations

import re

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.accounts.roles import acting
from greyanchor.library.models import DeviceConnection
from greyanchor.printroom import prints
from greyanchor.printroom.models import Print, PrintFile
from greyanchor.printroom.roll import roll_of
from tests.devices.conftest import Running, until


def words(client: Client, address: str) -> str:
    page = client.get(address)
    assert page.status_code == 200, address
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))


def finished(record: Print) -> Print:
    def done() -> bool:
        prints.sweep()
        record.refresh_from_db()
        return record.is_over

    until(done)
    return record


def test_from_the_print_file_to_the_ledger(client: Client, prepared: PrintFile, machine: Running) -> None:
    printer = prepared.job.mode.printer
    answer = client.post(f"/print-files/{prepared.pk}/print/", follow=True)
    record = Print.objects.get()
    assert answer.redirect_chain[-1][0] == f"/machines/{printer.pk}/" and record.state == "held"
    shelf = words(client, f"/machines/{printer.pk}/")
    assert "Nothing prints, and nothing waits" in shelf and "nothing is in its way" in shelf
    client.post(f"/prints/{record.pk}/go/")
    assert Print.objects.get().state == "ready"
    done = finished(record)
    assert done.state == "done"
    page = words(client, "/prints/")
    assert re.search(r"\b1 print\b", page) and done.printer.name in page
    assert f"{done.ink_total_ml:.2f}" in page
    one = words(client, f"/prints/{record.pk}/")
    assert f"edition {prepared.ticket['edition']}" in one and "Print again" in one
    assert client.get(f"/prints/{record.pk}/seen.png")["Content-Type"] == "image/png"
    client.post(f"/prints/{record.pk}/again/")
    assert Print.objects.filter(again_of=record, state="held").count() == 1


def test_what_is_in_the_way_stands_beside_what_is_held(
    client: Client, prepared: PrintFile, machine: Running, user: User
) -> None:
    with acting(user):
        record = prints.order(prepared, user)
    machine.server.machine.set("length_mm", 3.0)
    machine.server.machine.set("trouble", "cover-open")
    page = words(client, f"/machines/{record.printer_id}/part/")
    long = prints.size_mm(record)[1]
    assert "a cover is open" in page and f"it takes {long / 1000:.2f} m of media, 0.00 m are left" in page
    client.post(f"/prints/{record.pk}/go/")
    assert Print.objects.get().state == "held" and not machine.client.jobs(), "nothing was sent"
    machine.server.machine.set("length_mm", 30_000.0)
    machine.server.machine.set("trouble", "none")
    assert "nothing is in its way" in words(client, f"/machines/{record.printer_id}/part/")


def test_pieces_lie_one_after_another_and_never_over_one_another(
    prepared: PrintFile, machine: Running, user: User
) -> None:
    machine.server.machine.set("clock", 1.0)
    with acting(user):
        made = [prints.order(prepared, user, hold=False) for _ in range(4)]
    until(lambda: prints.sweep() is not None and Print.objects.get(pk=made[0].pk).share > 0.02)
    roll = roll_of(made[0].printer)
    assert [p.print.pk for p in roll.pieces] == [m.pk for m in made]
    first = roll.pieces[0]
    assert first.x < 0 < first.x + first.width, "the heads stand in what prints"
    ends = [p.x + p.width for p in roll.pieces]
    assert all(b.x >= e for e, b in zip(ends, roll.pieces[1:]))
    times = [p.done_at for p in roll.pieces]
    assert times == sorted(times) and roll.media_ends is None
    machine.server.machine.set("length_mm", 100.0)
    assert roll_of(made[0].printer).media_ends == pytest.approx(100.0, abs=2.0)


def test_the_ledger_is_narrowed_by_mode_and_machine_and_words(
    client: Client, prepared: PrintFile, machine: Running, user: User
) -> None:
    with acting(user):
        record = prints.order(prepared, user, hold=False)
    finished(record)
    mode = prepared.job.mode_id
    assert "1 print" in words(client, f"/prints/?mode={mode}&printer={record.printer_id}&q=lit")
    assert "0 prints" in words(client, f"/prints/?mode={mode + 1}")
    assert "0 prints" in words(client, "/prints/?q=nothing+like+this")
    assert "0 prints" in words(client, "/prints/?state=failed")


def test_a_machine_that_does_not_answer_is_said_to(
    client: Client, prepared: PrintFile, machine: Running
) -> None:
    printer = prepared.job.mode.printer
    machine.server.is_reachable = False
    DeviceConnection.objects.update(options={"address": "ipp://127.0.0.1:9/ipp/print"})
    assert "cannot be reached" in words(client, f"/machines/{printer.pk}/")
    assert "cannot be reached" in words(client, "/machines/")
    DeviceConnection.objects.update(options={})
    assert "give it an address under Devices" in words(client, f"/machines/{printer.pk}/")


def test_a_machine_is_paused_from_its_page_and_goes_on(
    client: Client, prepared: PrintFile, machine: Running
) -> None:
    printer = prepared.mode.printer
    client.post(f"/machines/{printer.pk}/pause/")
    assert "it is paused" in words(client, f"/machines/{printer.pk}/")
    assert "Let it go on" in words(client, f"/machines/{printer.pk}/")
    client.post(f"/machines/{printer.pk}/go-on/")
    assert "it is paused" not in words(client, f"/machines/{printer.pk}/")


def test_what_is_being_prepared_stands_on_the_page_of_its_machine(
    client: Client, prepared: PrintFile, machine: Running
) -> None:
    PrintFile.objects.filter(pk=prepared.pk).update(state="running", progress=0.4, message="40 % prepared")
    shown = words(client, f"/machines/{prepared.mode.printer_id}/part/")
    assert "In the making" in shown and "40 %" in shown


def test_what_waits_is_put_before_another_by_dragging(
    client: Client, prepared: PrintFile, machine: Running, user: User
) -> None:
    with acting(user):
        a, b, c = (prints.order(prepared, user, hold=False) for _ in range(3))
    client.post(f"/prints/{c.pk}/before/", {"other": a.pk})
    order = list(Print.objects.order_by("place").values_list("pk", flat=True))
    assert order == [c.pk, a.pk, b.pk]
    client.post(f"/prints/{c.pk}/before/", {"other": ""})
    assert Print.objects.order_by("place").last() == c


def test_media_that_is_changed_in_the_middle_is_said(
    prepared: PrintFile, machine: Running, user: User
) -> None:
    machine.server.machine.set("clock", 4.0)
    with acting(user):
        record = prints.order(prepared, user, hold=False)
    until(lambda: prints.sweep() is not None and Print.objects.get(pk=record.pk).share > 0.05)
    before = machine.server.machine.facts["media"]
    machine.server.machine.set("media", "Thrift Bond 90")
    machine.server.machine.set("clock", 3000.0)
    finished(record)
    assert record.state == "done"
    assert record.reason == f"the media was changed in the middle: {before}, then Thrift Bond 90"
