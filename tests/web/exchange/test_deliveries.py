"""Released modes in folders, and events sent to other programs."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import threading
import zipfile
from collections.abc import Iterator
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.roles import NotAllowed, Role, acting
from greyanchor.checks.models import Check
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.delivery import attempts, folders, webhooks
from greyanchor.delivery.models import DeliveryFolder, FolderDelivery, Message, Webhook
from greyanchor.library.models import PrintMode
from greyanchor.library.records.editions import keep_edition
from tests.web.library_kit import machine, mode, paper, person


@pytest.fixture(autouse=True)
def deliveries(settings: Any, tmp_path: Path) -> Path:
    settings.DELIVERIES = tmp_path / "deliveries"
    return settings.DELIVERIES  # type: ignore[no-any-return]


@pytest.fixture
def deck(user: User) -> PrintMode:
    made = mode("Deck charts", machine(), paper(), user=user)
    keep_edition(made, [], user)
    return made


class Listener:
    """A small web server that keeps what it hears, and answers as it is set to."""

    def __init__(self) -> None:
        self.heard: list[tuple[dict[str, str], bytes]] = []
        self.status = 204
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                outer.heard.append(({k.lower(): v for k, v in self.headers.items()}, body))
                self.send_response(outer.status)
                self.end_headers()

            def log_message(self, *args: Any) -> None:
                pass

        self.server = HTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}/heard?shop=1"


@pytest.fixture
def listener() -> Iterator[Listener]:
    made = Listener()
    yield made
    made.server.shutdown()
    made.server.server_close()


def test_what_is_released_is_there_at_once_and_with_each_new_edition(
    deck: PrintMode, user: User, deliveries: Path
) -> None:
    with acting(user):
        folders.make("Proofing", "proofing", ["profile", "curves", "limits", "pack"], user)
    assert folders.sweep() == 1 and folders.sweep() == 0
    place = deliveries / "proofing"
    names = sorted(p.name for p in place.iterdir())
    assert names == [
        "Deck charts curves.csv",
        "Deck charts limits.json",
        "Deck charts pack.zip",
        "Deck charts.icc",
    ]
    assert (place / "Deck charts.icc").read_bytes() == bytes(deck.profile.data)
    facts = json.loads((place / "Deck charts limits.json").read_text())
    assert facts["edition"] == 1 and facts["limits_percent"]["C"] == 90.0
    with zipfile.ZipFile(place / "Deck charts pack.zip") as pack:
        assert json.loads(pack.read("manifest.json"))["modes"][0]["name"] == "Deck charts"
    deck.limits = {**deck.limits, "C": 88.0}
    deck.save()
    keep_edition(deck, [], user)
    assert folders.sweep() == 1
    facts = json.loads((place / "Deck charts limits.json").read_text())
    assert facts["edition"] == 2 and facts["limits_percent"]["C"] == 88.0
    assert sorted(p.name for p in place.iterdir()) == names, "one of each, nothing half written"


def test_an_older_edition_never_takes_the_place_of_a_newer(
    deck: PrintMode, user: User, deliveries: Path
) -> None:
    with acting(user):
        folders.make("Proofing", "proofing", ["limits"], user)
    keep_edition(deck, [], user)
    first = FolderDelivery.objects.earliest("edition__number")
    FolderDelivery.objects.filter(pk=first.pk).update(next_at=timezone.now() + timedelta(minutes=1))
    folders.sweep()
    FolderDelivery.objects.filter(pk=first.pk).update(next_at=timezone.now())
    folders.sweep()
    assert json.loads((deliveries / "proofing" / "Deck charts limits.json").read_text())["edition"] == 2
    assert {d.state for d in FolderDelivery.objects.all()} == {"done"}


def test_a_folder_that_cannot_be_written_is_tried_again(
    deck: PrintMode, user: User, deliveries: Path
) -> None:
    deliveries.mkdir()
    (deliveries / "proofing").write_text("a file stands where the folder should be")
    with acting(user):
        folders.make("Proofing", "proofing", ["profile"], user)
    folders.sweep()
    record = FolderDelivery.objects.get()
    assert record.state == "waiting" and "cannot be written" in record.reason and record.attempts == 1
    assert folders.sweep() == 0, "not before its time"
    (deliveries / "proofing").unlink()
    FolderDelivery.objects.update(next_at=timezone.now())
    folders.sweep()
    record.refresh_from_db()
    assert record.state == "done" and record.names == ["Deck charts.icc"]
    assert icc.is_profile((deliveries / "proofing" / "Deck charts.icc").read_bytes()) or deck.profile


def test_folders_are_of_one_printer_where_one_is_chosen(deck: PrintMode, user: User) -> None:
    other = mode("Banners", machine("Gannet 64"), deck.media, user=user)
    with acting(user):
        folders.make("Gannet", "gannet", ["profile"], user, other.printer)
    keep_edition(deck, [], user)
    keep_edition(other, [], user)
    assert {d.edition.mode for d in FolderDelivery.objects.all()} == {other}


def test_what_cannot_be_delivered_to_is_refused(user: User) -> None:
    with acting(user):
        for name, folder, files, words in (
            ("a", "../etc", ["profile"], "is not a folder inside"),
            ("a", ".hidden", ["profile"], "is not a folder inside"),
            ("", "a", ["profile"], "has a name"),
            ("a", "a", ["virus"], "choose what is put into it"),
        ):
            with pytest.raises(BadInput, match=words):
                folders.make(name, folder, files, user)
        folders.make("a", "a", ["profile"], user)
        with pytest.raises(BadInput, match="already"):
            folders.make("a", "b", ["profile"], user)
        for address in ("ftp://host/x", "host", "file:///etc/passwd"):
            with pytest.raises(BadInput, match="is no address"):
                webhooks.make("w", address, ["check.made"], user)
        with pytest.raises(BadInput, match="at least one event"):
            webhooks.make("w", "https://host/x", [], user)
    with acting(person("tobias", Role.TECHNICIAN)), pytest.raises(NotAllowed):
        folders.make("b", "b", ["profile"], user)
    assert DeliveryFolder.objects.count() == 1 and not Webhook.objects.exists()


def check_of(made: PrintMode) -> Check:
    return Check.objects.create(
        mode=made,
        tolerances="x",
        verdict="fail",
        summary="mean 4.00 over 3.0",
        readings="r",
        readings_hash="h",
    )


def test_a_message_is_signed_so_that_the_listener_can_tell(
    deck: PrintMode, user: User, listener: Listener
) -> None:
    with acting(user):
        hook = webhooks.make("Job desk", listener.address, ["check.made"], user)
    made = check_of(deck)
    keep_edition(deck, [], user)
    assert Message.objects.count() == 1, "of what it asked for alone"
    assert webhooks.sweep() == 1
    [(headers, body)] = listener.heard
    found = json.loads(body)
    assert (
        found["type"] == "check.made"
        and found["data"]["verdict"] == "fail"
        and found["data"]["check"] == made.pk
    )
    signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.".encode() + body
    wanted = base64.b64encode(hmac.digest(hook.secret.encode(), signed, hashlib.sha256)).decode()
    assert headers["webhook-signature"] == f"v1,{wanted}"
    assert abs(int(headers["webhook-timestamp"]) - timezone.now().timestamp()) < 30
    assert Message.objects.get().state == "done" and webhooks.sweep() == 0


def test_a_listener_that_fails_is_told_again_and_at_last_given_up(
    deck: PrintMode, user: User, listener: Listener
) -> None:
    with acting(user):
        webhooks.make("Job desk", listener.address, ["check.made"], user)
    check_of(deck)
    listener.status = 503
    waits = []
    for _ in range(len(attempts.WAITS) + 1):
        before = timezone.now()
        assert webhooks.sweep() == 1
        record = Message.objects.get()
        waits.append((record.next_at - before).total_seconds())
        Message.objects.update(next_at=timezone.now())
    assert record.state == "given up" and record.status == 503 and "it answered 503" in record.reason
    assert waits[:3] == pytest.approx([10, 60, 300], abs=2.0)
    assert len({h["webhook-id"] for h, _ in listener.heard}) == 1, "each time the same message"
    listener.status = 200
    attempts.again(record)
    webhooks.sweep()
    assert Message.objects.get().state == "done"


def test_a_line_that_is_cut_is_said(deck: PrintMode, user: User) -> None:
    with acting(user):
        hook = webhooks.make("Job desk", "http://127.0.0.1:9/x", ["check.made"], user)
        check_of(deck)
        webhooks.sweep()
        assert "127.0.0.1:9 cannot be reached" in Message.objects.get().reason
        webhooks.switch(hook)
    check_of(deck)
    assert Message.objects.count() == 1, "one that was stopped hears nothing"


def test_the_page_of_deliveries(client: Client, deck: PrintMode, listener: Listener) -> None:
    client.post("/deliveries/folders/add/", {"name": "Proofing", "folder": "proofing", "files": ["profile"]})
    answer = client.post(
        "/deliveries/addresses/add/",
        {"name": "Desk", "address": listener.address, "events": ["mode.released"]},
        follow=True,
    )  # fmt: skip
    secret = Webhook.objects.get().secret
    assert secret in answer.content.decode() and secret not in client.get("/deliveries/").content.decode()
    folders.sweep()
    page = client.get("/deliveries/").content.decode()
    assert "Deck charts, edition 1" in page and "Proofing" in page and "ICC profile" in page
    folder = DeliveryFolder.objects.get()
    client.post(f"/deliveries/folder/{folder.pk}/switch/")
    folder.refresh_from_db()
    assert not folder.active
    record = FolderDelivery.objects.get()
    attempts.failed(record, "the disk is full")
    client.post(f"/deliveries/folder/{record.pk}/again/")
    record.refresh_from_db()
    assert record.attempts == 0 and record.state == "waiting"
