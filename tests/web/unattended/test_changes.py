"""What was swapped is put on record with a key, and what changed on a mode is said with its likely cause."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from greyanchor.builds.models import Build
from greyanchor.changes import queries, services
from greyanchor.changes.models import Swap
from greyanchor.core.errors import BadInput
from greyanchor.library.machines.controls import set_controls
from greyanchor.library.models import Printer, PrintMode
from greyanchor.unattended import engine
from greyanchor.unattended import services as unattended
from tests.web.builds.conftest import careful_hands, finish  # noqa: F401  hands that never slip


@pytest.fixture
def mode(up_to: Callable[[str], Build], user: User, settings: Any) -> PrintMode:
    settings.DEMO = True
    made = finish(up_to("profile"), user)
    made.media.travels_backwards = True
    made.media.save()
    Printer.objects.filter(pk=made.printer_id).update(loaded_media=made.media, loaded_at=timezone.now())
    return made


def _read(mode: PrintMode, user: User) -> None:
    unattended.start_night(PrintMode.objects.get(pk=mode.pk), user)
    for _ in range(6):
        engine.tick(timezone.now() + timedelta(days=1), seconds=60)


def test_a_swap_and_what_it_did(mode: PrintMode, user: User, client: Client) -> None:
    empty = client.get(reverse("what-changed", args=[mode.pk])).content.decode()
    assert "Nothing to compare yet" in empty
    sent = {"what": "head C", "batch": "H-77"}
    assert client.post(reverse("swap-record", args=[mode.printer_id]), sent).status_code == 302
    set_controls(mode.printer, {"C": 109.0})
    _read(mode, user)
    found = queries.since_last(mode)
    assert found is not None
    first = found.change.causes[0]
    assert (first.kind, first.ink) == ("head", "C") and first.recorded
    assert any(w.startswith("C ") and "heavier" in w for w in found.change.words)
    page = client.get(reverse("what-changed", args=[mode.pk])).content.decode()
    assert "The head of C" in page and "head C H-77" in page
    machine = client.get(reverse("swaps", args=[mode.printer_id])).content.decode()
    assert mode.name in machine and "head C H-77" in machine
    states = queries.states(mode)
    assert states[-1].key == "baseline" and len(states) >= 2
    odd = client.get(reverse("what-changed", args=[mode.pk]), {"before": "baseline", "now": "read-99"})
    assert "is not there" in odd.content.decode()


def test_what_is_no_swap_is_refused(printer: Printer, user: User, client: Client) -> None:
    with pytest.raises(BadInput, match="nothing called 'wheel'"):
        services.record(printer, "wheel", "", "", user)
    with pytest.raises(BadInput, match="has no ink O"):
        services.record(printer, "ink", "O", "", user)
    made = services.record(printer, "paper", "", "W-12", user)
    other = User.objects.create_user("tess", password="a long password")
    with pytest.raises(BadInput, match="only whoever"):
        services.take_back(made.pk, other)
    assert client.post(reverse("swap-take-back", args=[made.pk])).status_code == 302
    assert not Swap.objects.exists()
