"""A mode restored to its baseline after drift."""

from __future__ import annotations

import pytest
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.maintenance import restores
from greyanchor.builds.models import Baseline, Restore
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.errors import BadInput
from greyanchor.demo.devices import drift as let_drift
from greyanchor.library.models import DeviceConnection, Printer, PrintMode
from tests.web.conftest import (
    read_print,
)


def through_restore(mode: PrintMode, user: User) -> Restore:
    found = restores.start_restore(mode, user)
    read_print(found.sheet_print, user)
    found.refresh_from_db()
    return found


def test_a_restore_after_drift_says_what_drifted_and_brings_it_back(
    client: Client, released: PrintMode, user: User
) -> None:
    let_drift(released.printer, {"C": 1.1})
    released.refresh_from_db()
    client.post(f"/modes/{released.pk}/restore/")
    found = released.restores.get()
    assert client.get(f"/restores/{found.pk}/").status_code == 200
    read_print(found.sheet_print, user)
    page = client.get(f"/restores/{found.pk}/").content.decode()
    assert "C prints 1" in page and "heavier" in page
    client.post(f"/restores/{found.pk}/confirm/")
    found.refresh_from_db()
    read_print(found.confirm_print, user)
    found.refresh_from_db()
    assert found.after["mean"] <= 0.5 < found.drift["mean"]
    before = released.curves
    client.post(f"/restores/{found.pk}/use/", {"reason": ""})
    released.refresh_from_db()
    assert released.curves != before and released.curves == found.curves_after
    assert "restored to its baseline" in released.history.first().history_change_reason
    assert "Drift over all restores" in client.get(f"/modes/{released.pk}/").content.decode()


def test_other_paper_is_reported_as_beyond_restoring_and_asks_for_a_reason(
    client: Client, released: PrintMode, user: User
) -> None:
    let_drift(released.printer, {}, 4.0)
    released.refresh_from_db()
    found = through_restore(released, user)
    page = client.get(f"/restores/{found.pk}/").content.decode()
    assert "Restoring is no longer enough" in page and "the paper changed" in page
    read_print(restores.print_confirmation(found), user)
    found.refresh_from_db()
    with pytest.raises(BadInput, match="say why"):
        restores.use_curves(found, "", user)
    client.post(f"/restores/{found.pk}/close/", {"reason": "new paper, new profile"})
    found.refresh_from_db()
    released.refresh_from_db()
    assert found.state == "closed" and released.curves == found.curves_before


def test_one_restore_at_a_time_and_none_without_a_baseline(released: PrintMode, user: User) -> None:
    restores.start_restore(released, user)
    with pytest.raises(BadInput, match="being restored already"):
        restores.start_restore(released, user)
    Baseline.objects.all().delete()
    with pytest.raises(BadInput, match="no baseline"):
        restores.start_restore(released, user)


def test_curves_changed_meanwhile_are_not_overwritten(released: PrintMode, user: User) -> None:
    found = through_restore(released, user)
    read_print(restores.print_confirmation(found), user)
    found.refresh_from_db()
    other = PrintMode.objects.get(pk=released.pk)
    other.curves = CurveSet.straight(dict.fromkeys("CMYK", 0.7)).to_csv()
    other.save()
    with pytest.raises(BadInput, match="changed by somebody else"):
        restores.use_curves(found, "", user)


def test_the_stand_in_can_be_let_drift_from_its_page(client: Client, printer: Printer) -> None:
    client.post(
        f"/printers/{printer.pk}/controls/", {"C": "110", "M": "100", "Y": "100", "K": "95", "paper_b": "2"}
    )
    state = DeviceConnection.objects.get(printer=printer).state
    assert state == {"drift": {"C": 1.1, "K": 0.95}, "paper": [0.0, 0.0, 2.0]}
    assert 'value="110"' in client.get(f"/printers/{printer.pk}/").content.decode()
    assert client.post(f"/printers/{printer.pk}/controls/", {"C": "900"}).status_code == 409
