"""Slots of a machine's memory, and readying machines."""

from __future__ import annotations

from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.readiness import TASKS
from greyanchor.core.simulation.machine import Mechanics
from greyanchor.demo.devices import drift as let_drift
from greyanchor.devices.standin.memory import SlotMemory
from greyanchor.library.machines import controls, readiness, slots
from greyanchor.library.models import Media, Printer, ReadinessRun
from greyanchor.library.records.effective_settings import start_values
from greyanchor.library.records.handling_edits import set_value
from tests.web.library_kit import ABILITIES, machine, mode, paper, preset


@pytest.fixture
def printer(db: None) -> Printer:
    return machine()


@pytest.fixture
def media(db: None) -> Media:
    return paper()


# --- slots -----------------------------------------------------------------------------------


def test_settings_are_sent_read_back_tuned_and_taken_over(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    held = preset(media, printer, {"vacuum": 60})
    client.post(f"/printers/{printer.pk}/slots/send/", {"subject": f"preset-{held.pk}", "slot": 2})
    page = client.get(f"/printers/{printer.pk}/slots/").content.decode()
    assert "Holds what is required." in page and "Kelp Synthetic 190" in page
    client.post(f"/printers/{printer.pk}/slots/tune/", {"slot": 2, "key": "vacuum", "value": "71,4"})
    view = slots.slots_of(Printer.objects.get())[1]
    assert [(d.setting.key, d.wanted, d.held) for d in view.differences] == [("vacuum", 60, 71)], (
        "the machine holds whole percents"
    )
    assert "71 %" in client.get(f"/printers/{printer.pk}/slots/").content.decode()
    client.post(f"/printers/{printer.pk}/slots/take-over/", {"slot": 2, "key": "vacuum"})
    held.refresh_from_db()
    assert (
        held.handling["vacuum"] == 71
        and "tuned at Petrel 44, slot 2" in held.history.first().history_change_reason
    )
    assert slots.slots_of(Printer.objects.get())[1].differences == []
    assert (
        client.post(f"/printers/{printer.pk}/slots/take-over/", {"slot": 2, "key": "vacuum"}).status_code
        == 409
    )


def test_what_changed_here_since_it_was_sent_is_text(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    made = mode("Deck charts", printer, media)
    slots.send(printer.pk, 1, made, user)
    set_value(made, "vacuum", 66, user, "it lifted")
    view = slots.slots_of(Printer.objects.get())[0]
    assert view.stale and view.differences[0].wanted == 66 and view.subject == made
    assert "Changed here since it was sent" in client.get(f"/printers/{printer.pk}/slots/").content.decode()


def test_a_drift_of_the_stand_in_leaves_its_memory_alone(printer: Printer, media: Media, user: User) -> None:
    slots.send(printer.pk, 1, preset(media, printer), user)
    let_drift(Printer.objects.get(), {"C": 1.1})
    assert slots.slots_of(Printer.objects.get())[0].held


@pytest.mark.parametrize(
    ("form", "reason"),
    [
        ({"subject": "", "slot": 1}, "choose a preset"),
        ({"subject": "preset-1", "slot": "x"}, "whole number"),
        ({"subject": "media-1", "slot": 1}, "choose a preset"),
    ],
)
def test_a_wrong_form_is_refused(
    client: Client, printer: Printer, media: Media, form: dict, reason: str
) -> None:
    held = preset(media, printer)
    form = {**form, "subject": form["subject"].replace("preset-1", f"preset-{held.pk}")}
    answer = client.post(f"/printers/{printer.pk}/slots/send/", form)
    assert answer.status_code == 409 and reason in answer.content.decode().lower()


def test_another_machine_a_wrong_slot_and_wrong_values_are_refused(
    printer: Printer, media: Media, user: User
) -> None:
    other = machine("Gannet 64")
    with pytest.raises(BadInput, match="is made for the Petrel 44"):
        slots.send(other.pk, 1, preset(media, printer), user)
    with pytest.raises(BadInput, match="slots 1 to 8, not 9"):
        slots.send(printer.pk, 9, mode("Deck", printer, media), user)
    with pytest.raises(BadInput, match="is empty"):
        controls.tune(printer, 3, "vacuum", 50)
    with pytest.raises(BadInput, match="nothing to take"):
        slots.take_over(printer, 3, "vacuum", user)
    memory = SlotMemory({}, printer.ability_map, 2)
    memory.send(1, "a" * 60, {"vacuum": 50.4})
    assert memory.read(1) == ("a" * 24, {"vacuum": 50.0}) and memory.read(2) == ("", {})
    with pytest.raises(BadInput):
        memory.send(1, "b", {"vacuum": 99})
    assert memory.read(1)[0] == "a" * 24, "a refused filling leaves the slot as it was"


# --- readiness -------------------------------------------------------------------------------


def overdue() -> list[readiness.PrinterDue]:
    return [d for d in readiness.wanted() if d.due.overdue]


def test_a_readiness_day(client: Client, printer: Printer, media: Media, user: User) -> None:
    assert {d.task.key for d in overdue()} == {"nozzles"}, "what needs media waits for media"
    client.post(f"/printers/{printer.pk}/load/", {"media": media.pk})
    assert {d.task.key for d in overdue()} == {"nozzles", "alignment", "feed"}
    start = client.get("/").content.decode()
    assert "feed adjustment" in start and "Petrel 44" in start
    assert "The machine is not ready" in client.get(f"/builds/new/?printer={printer.pk}").content.decode()
    address = f"/printers/{printer.pk}/ready/"
    around: float | str = ""
    for _ in range(6):
        client.post(f"{address}feed/print/", {"around": around})
        waiting = readiness.waiting(printer, "feed")
        page = client.get(f"{address}feed/").content.decode()
        assert "Between strips" in page and page.count('name="step"') == len(waiting.pattern["values"])
        client.post(f"{address}feed/judge/", {"record": waiting.pk, "how": "reading"})
        done = printer.readiness_runs.filter(task="feed", done_at__isnull=False).first()
        if done:
            break
        offs = [abs(v) for v in waiting.pattern["misfit"]]
        around = waiting.pattern["values"][offs.index(min(offs))]
    assert (
        abs(done.value - Mechanics(printer.serial, media.name, float(media.thickness)).right("feed")) < 0.04
        and done.how == "reading"
    )
    held = start_values(printer, media)["feed"]
    assert (
        held.value == pytest.approx(done.value)
        and held.source == "printer"
        and "found on this media" in held.reason
    )
    while any(d.task.key == "nozzles" for d in overdue()):
        client.post(f"{address}nozzles/print/")
        waiting = readiness.waiting(printer, "nozzles")
        counted = {f"missing.{c}": len(gone) for c, gone in waiting.pattern["closed"].items()}
        client.post(f"{address}nozzles/judge/", {"record": waiting.pk, "how": "eye", **counted})
    assert {d.task.key for d in overdue()} == {"alignment"}
    client.post(f"/printers/{printer.pk}/load/", {"media": paper("Saltmarsh Cotton 310", "uncoated").pk})
    assert (
        "feed" in {d.task.key for d in overdue()}
        and "found on this media"
        not in start_values(printer, Media.objects.get(name="Saltmarsh Cotton 310"))["feed"].reason
    )
    client.post(f"/printers/{printer.pk}/load/", {"media": media.pk})
    assert start_values(printer, media)["feed"].value == pytest.approx(done.value), (
        "the value is kept for the media"
    )
    assert "feed" in {d.task.key for d in overdue()}, "but must be done again after the change"


def test_a_step_chosen_by_eye_is_kept_and_a_pattern_is_judged_once(
    client: Client, printer: Printer, media: Media, user: User
) -> None:
    readiness.load_media(printer.pk, media, user)
    printer.refresh_from_db()
    made = readiness.print_pattern(printer, "alignment", user)
    address = f"/printers/{printer.pk}/ready/alignment/judge/"
    assert client.post(address, {"record": made.pk, "step": 99, "how": "eye"}).status_code == 409
    client.post(address, {"record": made.pk, "step": 3, "how": "eye"})
    made.refresh_from_db()
    assert made.value == made.pattern["values"][2] and made.done_by == user and made.before == 0
    assert client.post(address, {"record": made.pk, "step": 4, "how": "eye"}).status_code == 409
    assert "by eye" in client.get(f"/printers/{printer.pk}/ready/alignment/").content.decode()


def test_too_many_missing_nozzles_leave_the_machine_unready_and_cleaning_helps(
    printer: Printer, user: User
) -> None:
    made = readiness.print_pattern(printer, "nozzles", user)
    assert sorted(made.pattern["closed"]) == ["C", "K", "M", "Y"]
    with pytest.raises(BadInput, match="say for C"):
        readiness.judge_nozzles(made.pk, {"C": 0}, user)
    done = readiness.judge_nozzles(made.pk, {"C": 5, "M": 0, "Y": 0, "K": 0}, user)
    assert not done.good and overdue()[0].due.why == "its last time ended badly"
    again = readiness.print_pattern(printer, "nozzles", user)
    for channel, closed in again.pattern["closed"].items():
        assert len(closed) <= len(made.pattern["closed"][channel])


def test_yesterdays_nozzle_check_is_due_today(client: Client, printer: Printer, user: User) -> None:
    made = readiness.judge_nozzles(
        readiness.print_pattern(printer, "nozzles", user).pk, dict.fromkeys("CMYK", 0), user
    )
    assert overdue() == []
    tomorrow = timezone.localtime() + timedelta(days=1)
    assert f"due again {tomorrow:%-d %B}" in client.get("/").content.decode()
    ReadinessRun.objects.filter(pk=made.pk).update(done_at=timezone.now() - timedelta(hours=25))
    assert [d.task.key for d in overdue()] == ["nozzles"]
    yesterday = timezone.localtime() - timedelta(hours=25)
    assert f"due, last done {yesterday:%-d %B}" in client.get("/").content.decode()


@pytest.mark.parametrize("key", ["cut-force", "cut-speed", "cut-passes", "cut-offset"])
def test_a_cutting_machine_is_readied_by_eye_alone(
    client: Client, media: Media, user: User, key: str
) -> None:
    cutter = machine("Gannet 64")
    blade = {
        "cut_force": (20, 500, 5, 140),
        "cut_speed": (20, 700, 10, 300),
        "cut_passes": (1, 4, 1, 1),
        "cut_offset": (-1, 1, 0.01, 0),
    }
    cutter.abilities = {
        **ABILITIES,
        **{k: dict(zip(("low", "high", "step", "usual"), v)) for k, v in blade.items()},
    }
    cutter.save()
    readiness.load_media(cutter.pk, media, user)
    cutter.refresh_from_db()
    client.post(f"/printers/{cutter.pk}/ready/{key}/print/")
    made = readiness.waiting(cutter, key)
    assert (
        "An instrument cannot read this pattern"
        in client.get(f"/printers/{cutter.pk}/ready/{key}/").content.decode()
    )
    with pytest.raises(BadInput, match="judged by eye"):
        readiness.judge_by_reading(made.pk, user)
    step = min(range(len(made.pattern["misfit"])), key=lambda i: abs(made.pattern["misfit"][i]))
    done = readiness.judge_step(made.pk, step + 1, user)
    assert start_values(cutter, media)[TASKS[key].setting].value == pytest.approx(done.value)


def test_what_cannot_be_printed_or_loaded_is_refused(client: Client, printer: Printer, user: User) -> None:
    with pytest.raises(BadInput, match="has no blade force"):
        readiness.print_pattern(printer, "cut-force", user)
    with pytest.raises(BadInput, match="load a media in"):
        readiness.print_pattern(printer, "feed", user)
    wide = paper("Wide banner")
    wide.width_mm = 2000
    wide.save()
    with pytest.raises(BadInput, match="2000 mm wide"):
        readiness.load_media(printer.pk, wide, user)
    assert client.get(f"/printers/{printer.pk}/ready/windows/").status_code == 409
    assert client.post(f"/printers/{printer.pk}/ready/nozzles/print/", {"around": "x"}).status_code in (
        302,
        409,
    )
