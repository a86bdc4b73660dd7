"""Places and their lights: measured by meter and by file, judged, followed, due, held to limits."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.utils import timezone

from greyanchor.accounts.models import Site
from greyanchor.colours import lights
from greyanchor.colours.models import LightMeasured, LightPlace
from greyanchor.core.colour.lighting import NM, LightSpectrum, daylight_from_300
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.formats import light_file
from greyanchor.core.simulation.booth import Booth, LightMeter
from greyanchor.demo.devices import connect_all
from greyanchor.library.models import Printer
from greyanchor.profiles.models import RoomLight


@pytest.fixture
def site(printer: Printer) -> Site:
    return printer.site


@pytest.fixture
def booth(user: User, site: Site) -> LightPlace:
    connect_all()
    return lights.add_place("Proof booth", site, "P1", 90, user)


def until_read(act: Callable[[], Any]) -> Any:
    for _ in range(20):
        try:
            return act()
        except NotReadable:
            continue
    raise AssertionError("the meter never read")


def measured(place: LightPlace, user: User, spot: int = 0) -> LightMeasured:
    until_read(lambda: lights.zero(place))
    return until_read(lambda: lights.measure(place, spot, user))


def test_a_booth_fails_for_its_temperature_and_passes_with_new_lamps(
    client: Client, booth: LightPlace, user: User
) -> None:
    lights.control(booth, {"hours": 6000.0})
    old = measured(booth, user)
    assert old.verdict == "fail"
    page = client.get(f"/colours/lights/{booth.pk}/").content.decode()
    assert "Not fit to judge prints in" in page
    assert "is warmer than D50" in page
    assert "failed when it was measured last" in page
    assert "Proof booth" in client.get("/").content.decode()
    client.post(f"/colours/lights/{booth.pk}/simulated/", {"hours": "0", "lux": "2050"})
    client.post(f"/colours/lights/{booth.pk}/lamps/")
    booth.refresh_from_db()
    assert lights.due_of(booth).why == "its lamps were changed"
    for spot in range(5):
        new = measured(booth, user, spot)
    assert new.verdict == "pass"
    assert {c["id"]: c["verdict"] for c in new.criteria}["evenness"] == "pass"
    page = client.get(f"/colours/lights/{booth.pk}/").content.decode()
    assert "Fit to judge prints in" in page
    assert "Proof booth" not in client.get("/").content.decode()
    assert f"room:{new.light_id}" in client.get("/profiles/new/").content.decode()
    rows, _ = lights.ageing(booth)
    assert old not in rows, "the trend starts with the new lamps"


def test_the_meter_says_what_to_do_with_the_hands(client: Client, booth: LightPlace) -> None:
    answer = client.post(f"/colours/lights/{booth.pk}/measure/0/", follow=True).content.decode()
    assert "put the cap on and calibrate first" in answer
    assert not LightMeasured.objects.exists()
    until_read(lambda: lights.zero(booth))
    with pytest.raises(BadInput, match="measure the middle first"):
        until_read(lambda: lights.measure(booth, 2, None))
    record = booth.site.connections.get(method="light")
    record.kept |= {"dark_at": (timezone.now() - timedelta(minutes=45)).isoformat()}
    record.save()
    with pytest.raises(NotReadable, match="does not know what dark is"):
        lights.measure(booth, 0, None)


def test_a_file_is_kept_with_its_scale_and_given_back(client: Client, booth: LightPlace) -> None:
    day = daylight_from_300(5003.0)
    data = light_file.dumps(LightSpectrum.of("x", NM, 0.2 * day))
    sent = SimpleUploadedFile("window.csv", data)
    client.post(f"/colours/lights/{booth.pk}/file/", {"file": sent})
    kept = LightMeasured.objects.get()
    assert kept.report["lux"] is None
    assert {c["id"]: c["verdict"] for c in kept.criteria}["illuminance_min"] == "not tested"
    back = light_file.loads_spectrum(client.get(f"/colours/lights/measured/{kept.pk}.csv").content)
    assert np.allclose(back.power, kept.spectrum.power, rtol=1e-4)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"nm,power\n" + b"".join(b"%d,0\n" % nm for nm in range(380, 740, 10)), "holds no energy"),
        (b"hello\n", "window.csv"),
        (b"", "window.csv"),
    ],
)
def test_what_is_no_light_is_refused(client: Client, booth: LightPlace, data: bytes, said: str) -> None:
    sent = SimpleUploadedFile("window.csv", data)
    page = client.post(f"/colours/lights/{booth.pk}/file/", {"file": sent}, follow=True).content.decode()
    assert said in page
    assert not RoomLight.objects.exists()


def test_too_large_a_file_is_refused(client: Client, booth: LightPlace, settings: object) -> None:
    settings.UPLOAD_LIMIT = 1000
    sent = SimpleUploadedFile("window.csv", b"1 2\n" * 999)
    page = client.post(f"/colours/lights/{booth.pk}/file/", {"file": sent}, follow=True).content.decode()
    assert "files up to" in page


def test_limits_are_the_shops_own_and_two_people_do_not_overwrite_one_another(
    client: Client, booth: LightPlace, user: User
) -> None:
    lights.control(booth, {"hours": 4200.0})
    assert measured(booth, user).verdict == "fail"
    mine = {"version": 1, "source": "house rule 4", "every_days": 30, "limit_chromaticity": "0,02"}
    client.post(f"/colours/lights/{booth.pk}/limits/", mine)
    page = client.get(f"/colours/lights/{booth.pk}/").content.decode()
    assert "Fit to judge prints in" in page
    assert "house rule 4" in page
    booth.refresh_from_db()
    assert lights.due_of(booth).why == "every 30 days", "it is judged by the limits of now"
    theirs = {"version": 1, "source": "other", "every_days": 30}
    page = client.post(f"/colours/lights/{booth.pk}/limits/", theirs, follow=True).content.decode()
    assert "changed meanwhile" in page
    booth.refresh_from_db()
    assert booth.source == "house rule 4"
    wrong = {
        "version": 2,
        "source": "x",
        "every_days": 30,
        "limit_illuminance_min": 900,
        "limit_illuminance_max": 500,
    }
    page = client.post(f"/colours/lights/{booth.pk}/limits/", wrong, follow=True).content.decode()
    assert "above the most" in page


def test_an_ageing_lamp_is_foreseen(booth: LightPlace, user: User, client: Client) -> None:
    for week in range(9):
        nm, power = LightMeter(noise=0.0).read(Booth(hours=350.0 * week).power(), (week,))
        light = LightSpectrum.of("b", nm, power, is_absolute=True)
        lights.keep(booth, light, "meter", user, timezone.now() - timedelta(days=7 * (8 - week)))
    _, course = lights.ageing(booth)
    # 350 hours a week: the simulated booth meets .005 after about 3,670 hours
    assert course.fails_in["chromaticity"] == pytest.approx((3670 - 2800) / 50, abs=4)
    assert "At this pace distance from D50" in client.get(f"/colours/lights/{booth.pk}/").content.decode()


def test_a_place_without_a_meter_takes_files(client: Client, user: User, site: Site) -> None:
    site.connections.filter(method="light").delete()
    place = lights.add_place("Window", site, "P2", 30, user)
    page = client.get(f"/colours/lights/{place.pk}/").content.decode()
    assert "No light meter is connected" in page
    with pytest.raises(BadInput, match="has no light meter"):
        lights.zero(place)
    again = {"name": "window", "site": site.pk, "condition": "P1", "every_days": 9}
    answer = client.post("/colours/lights/", again)
    assert answer.status_code == 400
    assert "choose another name" in answer.content.decode()
