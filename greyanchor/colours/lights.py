"""Measuring and storing the lights that prints are looked at in, and when they are due."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.audit_log import note
from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.colours.models import LightMeasured, LightPlace
from greyanchor.core.colour.lighting import LightSpectrum, illuminance
from greyanchor.core.colour.viewing import CONDITIONS, Condition, LightReport, judge
from greyanchor.core.errors import BadInput, NotReadable
from greyanchor.core.formats import light_file
from greyanchor.devices.ports import LIGHT, Control, LightControlsPort, LightMeterPort
from greyanchor.devices.registry import drivers
from greyanchor.library.machines.connections import connection_of
from greyanchor.library.models import DeviceConnection
from greyanchor.profiles.models import RoomLight

#: minutes within which corners belong to the middle that was measured before
_SAME_VISIT = timedelta(minutes=30)
#: places that are due within so many days are said to be
_SOON = timedelta(days=7)
#: days ahead that a pace is trusted for
_FORESEEN = 400.0
SPOTS = ("middle", "left front", "right front", "left back", "right back")


# --- places ----------------------------------------------------------------------------------


@needs(MAKE)
@transaction.atomic
def add_place(name: str, site: Site, condition: str, every_days: int, user: User | None) -> LightPlace:
    """Add a place; it starts with the limits of its condition."""
    if LightPlace.objects.filter(name__iexact=name.strip()).exists():
        raise BadInput(f"there is a place called {name.strip()} already; choose another name")
    held = CONDITIONS[condition]
    made = LightPlace(
        name=name.strip(),
        site=site,
        condition=condition,
        limits=dict(held.limits),
        source=held.source,
        every_days=every_days,
    )
    return _saved(made, user)


@needs(MAKE)
@transaction.atomic
def change_place(
    place: LightPlace, version: int, facts: Mapping[str, Any], limits: Mapping[str, float], user: User | None
) -> None:
    """Other limits, another source, another interval. What was measured before keeps its verdict.

    `BadInput` where somebody else changed the place meanwhile, or a limit is none.
    """
    held = LightPlace.objects.select_for_update().get(pk=place.pk)
    if held.version != version:
        raise BadInput(f"{held.name} was changed meanwhile; load the page again")
    for name, value in facts.items():
        setattr(held, name, value)
    held.limits = dict(Condition(held.condition, "", held.source, limits).limits)
    held.version += 1
    _saved(held, user)


@needs(USE)
@transaction.atomic
def lamp_changed(place: LightPlace, user: User | None) -> None:
    """Somebody put new lamps in: its trend starts again, and the place is due."""
    held = LightPlace.objects.select_for_update().get(pk=place.pk)
    held.lamp_changed_at = timezone.now()
    _saved(held, user)
    note(held, "Lamps", "", "changed", user)


def _saved(place: LightPlace, user: User | None) -> LightPlace:
    place._history_user = user  # type: ignore[attr-defined]
    place.save()
    return place


@dataclass(frozen=True)
class PlaceDue:
    """A place and when it is to be measured; `why` in words."""

    place: LightPlace
    at: datetime
    why: str

    @property
    def is_over(self) -> bool:
        return self.at <= timezone.now()


def due_of(place: LightPlace) -> PlaceDue:
    """When a place is to be measured, and why."""
    last = place.newest
    if last is None:
        return PlaceDue(place, timezone.now(), "never measured")
    if place.lamp_changed_at is not None and place.lamp_changed_at > last.measured_at:
        return PlaceDue(place, place.lamp_changed_at, "its lamps were changed")
    if report_of(last).verdict == "fail":
        return PlaceDue(place, last.measured_at, "failed when it was measured last")
    return PlaceDue(place, place.due_at, f"every {place.every_days} days")


def wanted() -> list[PlaceDue]:
    """Places that are due now or soon."""
    dues = [due_of(p) for p in LightPlace.objects.select_related("site")]
    return [d for d in dues if d.at <= timezone.now() + _SOON]


# --- measuring -------------------------------------------------------------------------------


def _record(site: Site, held: bool = False) -> DeviceConnection | None:
    found = DeviceConnection.objects.filter(printer=None, site=site, method=LIGHT)
    return (found.select_for_update() if held else found).first()


def _port(record: DeviceConnection | None) -> LightMeterPort | None:
    driver = drivers().get(record.driver) if record else None
    return driver.light_meter(connection_of(record)) if driver and record else None


@dataclass(frozen=True)
class Meter:
    """The light meter of a site, as a page shows it.

    Attributes
    ----------
    minutes_left
        For which it still knows what dark is; 0 where it has to be calibrated, None where it needs not.
    controls
        What can be changed of a simulated place.
    """

    name: str
    minutes_left: float | None
    controls: tuple[Control, ...] = ()


def meter_of(place: LightPlace) -> Meter | None:
    """The light meter of a place's site; None where lights come as files alone."""
    record = _record(place.site)
    port = _port(record)
    if record is None or port is None:
        return None
    since = _minutes_since_dark(record)
    left = None
    if port.dark_minutes is not None:
        left = max(port.dark_minutes - since, 0.0) if since is not None else 0.0
    controls = port.light_controls(place.name) if isinstance(port, LightControlsPort) else []
    return Meter(port.name, left, tuple(controls))


def _minutes_since_dark(record: DeviceConnection) -> float | None:
    calibrated = record.kept.get("dark_at")
    if not calibrated:
        return None
    return (timezone.now() - datetime.fromisoformat(calibrated)).total_seconds() / 60.0


def _held(place: LightPlace) -> tuple[DeviceConnection, LightMeterPort]:
    record = _record(place.site, held=True)
    port = _port(record)
    if record is None or port is None:
        raise BadInput(f"{place.site} has no light meter: connect one under Devices, or send a file")
    return record, port


def _attempt(record: DeviceConnection) -> int:
    number = int(record.kept.get("attempt", 0)) + 1
    record.kept = {**record.kept, "attempt": number}
    return number


@needs(USE)
def zero(place: LightPlace) -> None:
    """Tell the meter what dark is, with its cap on; `NotReadable` where light came in."""
    slip = None
    with transaction.atomic():
        record, port = _held(place)
        try:
            port.zero(_attempt(record))
            record.kept = {**record.kept, "dark_at": timezone.now().isoformat()}
        except NotReadable as error:
            slip = error
        record.save(update_fields=["state", "kept"])
    if slip is not None:
        raise slip


@needs(USE)
def measure(place: LightPlace, spot: int, user: User | None) -> LightMeasured:
    """Measure a place: its middle (spot 0) makes a record, its corners (1 to 4) are added to the newest.

    `NotReadable` says what to do with the hands; then nothing is kept.
    """
    slip, kept = None, None
    with transaction.atomic():
        record, port = _held(place)
        try:
            seen = port.read_light(place.name, spot, _attempt(record), _minutes_since_dark(record))
        except NotReadable as error:
            slip = error
        else:
            spectrum = LightSpectrum.of(place.name, seen.wavelengths, seen.power, seen.is_absolute)
            kept = keep(place, spectrum, port.name, user) if spot == 0 else _corner(place, spectrum)
        record.save(update_fields=["state", "kept"])
    if slip is not None:
        raise slip
    assert kept is not None
    return kept


@needs(USE)
@transaction.atomic
def keep_file(place: LightPlace, data: bytes, file_name: str, user: User | None) -> LightMeasured:
    """A light that another program measured at a place; `BadInput` where the file is none."""
    return keep(place, light_file.loads_spectrum(data, file_name), f"file {file_name}"[:120], user)


@needs(USE)
@transaction.atomic
def keep(
    place: LightPlace,
    spectrum: LightSpectrum,
    instrument: str,
    user: User | None,
    when: datetime | None = None,
) -> LightMeasured:
    """Keep the light of a place's middle, judged; profiles can be built for it. `BadInput` for no white."""
    now = when or timezone.now()
    report = judge(spectrum, place.held_to)
    day = f"{place.name}, {timezone.localtime(now):%Y-%m-%d %H:%M}"
    name, count = day[:80], 1
    while RoomLight.objects.filter(name=name).exists():
        count += 1
        name = f"{day[:70]} ({count})"
    power = [round(p, 4) for p in spectrum.measured.power]
    light = RoomLight.objects.create(name=name, power=power, created_by=user)
    return LightMeasured.objects.create(
        place=place,
        light=light,
        measured_at=now,
        measured_by=user,
        instrument=instrument,
        power=[float(f"{p:.6g}") for p in spectrum.power],
        first=spectrum.first,
        step=spectrum.step,
        is_absolute=spectrum.is_absolute,
        report=report.as_dict(),
    )


def _corner(place: LightPlace, spectrum: LightSpectrum) -> LightMeasured:
    last = place.newest
    if last is None or timezone.now() - last.measured_at > _SAME_VISIT:
        raise BadInput("measure the middle first; corners are held against it")
    lux = illuminance(spectrum)
    if lux is None or not last.is_absolute:
        raise BadInput("the meter gives no illuminance; evenness cannot be judged with it")
    last.around = [*last.around, round(lux, 1)]
    last.report = judge(last.spectrum, place.held_to, last.around).as_dict()
    last.save(update_fields=["around", "report"])
    return last


@needs(MAKE)
@transaction.atomic
def control(place: LightPlace, values: Mapping[str, float]) -> None:
    """Change a simulated place from now on; `BadInput` where it is not simulated."""
    record, port = _held(place)
    if not isinstance(port, LightControlsPort):
        raise BadInput(f"the light meter of {place.site} is real; change the lamps themselves")
    port.control_light(place.name, values)
    record.save(update_fields=["state"])


# --- what became of it -------------------------------------------------------------------------


@dataclass(frozen=True)
class Ageing:
    """How a place's light went since its lamps were changed.

    Attributes
    ----------
    days
        Since the first measurement (n,).
    values
        Figures by criterion (n,).
    fails_in
        Days from now until a criterion meets its limit at this pace, by criterion; only what moves towards
        it.
    """

    days: Sequence[float]
    values: Mapping[str, Sequence[float]]
    fails_in: Mapping[str, float]


#: what is followed, and whether less is worse
FOLLOWED = {"chromaticity": False, "ra": True, "illuminance_min": True, "mi_visible": False}


def ageing(place: LightPlace) -> tuple[list[LightMeasured], Ageing]:
    """Measurements since the lamps were changed, oldest first, and where they lead.

    The pace is the slope of a straight line through them (least squares), said from three measurements over
    seven days on, where it leads towards the limit by more than the readings scatter around it.
    """
    found = place.measured.order_by("measured_at", "pk")
    if place.lamp_changed_at is not None:
        found = found.filter(measured_at__gte=place.lamp_changed_at)
    rows = list(found)
    if not rows:
        return rows, Ageing([], {}, {})
    start = rows[0].measured_at
    days = np.array([(r.measured_at - start).total_seconds() / 86400.0 for r in rows])
    values: dict[str, list[float]] = {}
    fails: dict[str, float] = {}
    for name, less_is_worse in FOLLOWED.items():
        series = [next((c["value"] for c in r.criteria if c["id"] == name), None) for r in rows]
        if any(v is None for v in series):
            continue
        y = np.array(series, dtype=float)
        values[name] = list(y)
        limit = place.limits.get(name)
        if limit is None or len(y) < 3 or days[-1] - days[0] < 7:
            continue
        slope, foot = np.polyfit(days, y, 1)
        scatter = float(np.std(y - (slope * days + foot), ddof=2)) if len(y) > 2 else 0.0
        moved = abs(slope) * (days[-1] - days[0])
        towards = slope < 0 if less_is_worse else slope > 0
        if towards and moved > 2.0 * scatter and abs(slope) > 0:
            now = slope * days[-1] + foot
            left = (limit - now) / slope
            if left < _FORESEEN:
                fails[name] = max(float(left), 0.0)
    return rows, Ageing(list(days), values, fails)


def report_of(measured: LightMeasured) -> LightReport:
    """What is said of a measurement by the limits of now."""
    return judge(measured.spectrum, measured.place.held_to, measured.around)
