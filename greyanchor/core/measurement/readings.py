"""ReadingSet: what an instrument saw of a chart, and how it is put onto the chart it belongs to."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, replace
from itertools import product

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import (
    BANDS,
    Array,
    lab_to_xyz,
    spectra_to_lab,
    spectra_to_xyz,
    xyz_to_lab,
)
from greyanchor.core.colour.illuminants import Light, light_name
from greyanchor.core.colour.transmission import VISUAL, film_xyz
from greyanchor.core.errors import BadInput

CONDITIONS = ("M0", "M1", "M2", "M3")
#: the condition of films, which are read by the light they let through
TRANSMISSION = "T"
#: the one channel of pictures in grey, 100 % white, as ICC profiles and image files count it
GREY = ("GREY",)
#: device values are the same when they differ by no more than this (fraction)
SAME_DEVICE = 0.002


def is_additive(channels: tuple[str, ...]) -> bool:
    """Whether device values ask for light, not ink, so that 100 % of all of them is bare paper."""
    return channels in (("R", "G", "B"), GREY)


def as_inks(device: Array, channels: tuple[str, ...]) -> Array:
    """Device values (n, channels) as amounts of ink, or amounts of ink as device values: 0 is bare paper."""
    return 1.0 - device if is_additive(channels) else device


@dataclass(frozen=True)
class ReadingSet:
    """One pass over a chart, or a chart alone when nothing has been measured.

    Attributes
    ----------
    ids
        Patch names, unique, n of them.
    channels
        Ink names in printing order, such as ``("C", "M", "Y", "K")``; empty when unknown.
    device
        Device values (n, channels), fractions 0..1, or None.
    spectra
        Reflectance factors (n, 36), 380..730 nm at 10 nm, or None.
    measured_xyz, measured_lab
        Colorimetric readings (n, 3) when there are no spectra: XYZ with Y = 100 for the perfect
        diffuser, or Lab, both D50 2 degree, absolute.
    densities
        Transmission densities (n, 2) of films, visual and UV, in place of spectra and colour.
    condition
        ISO 13655 measurement condition, ``M0`` to ``M3``, or `TRANSMISSION`.
    rows
        Row number on the chart of each patch, (n,) integers counted from 1 through all sheets, or None.
    columns
        Place in the row, counted from 1, or None.
    sheets
        Sheet of each patch, counted from 1, or None.
    meta
        Free facts that travel with the file (printer, instrument, environment name ...).
    names
        What each patch is called where it has a name besides its id, such as a spot colour; else empty text.
    """

    ids: tuple[str, ...]
    channels: tuple[str, ...] = ()
    device: Array | None = None
    spectra: Array | None = None
    measured_xyz: Array | None = None
    measured_lab: Array | None = None
    densities: Array | None = None
    condition: str = "M1"
    rows: npt.NDArray[np.int64] | None = None
    columns: npt.NDArray[np.int64] | None = None
    sheets: npt.NDArray[np.int64] | None = None
    meta: dict[str, str] = field(default_factory=dict)
    names: tuple[str, ...] | None = None

    def __post_init__(self) -> None:
        n = len(self.ids)
        if len(set(self.ids)) != n:
            seen: set[str] = set()
            twice = next(i for i in self.ids if i in seen or seen.add(i))  # type: ignore[func-returns-value]
            raise BadInput(f"patch {twice} is there more than once")
        for name, width in (
            ("device", len(self.channels)),
            ("spectra", BANDS),
            ("measured_xyz", 3),
            ("measured_lab", 3),
            ("densities", 2),
        ):
            value = getattr(self, name)
            if value is None:
                continue
            if value.shape != (n, width):
                raise BadInput(f"{name} has shape {value.shape}, expected {(n, width)}")
            if not np.isfinite(value).all():
                bad = self.ids[int(np.flatnonzero(~np.isfinite(value).all(axis=1))[0])]
                raise BadInput(f"patch {bad} holds a value that is not a number")
        if self.names is not None and len(self.names) != n:
            raise BadInput(f"there are {len(self.names)} names for {n} patches")
        if self.device is not None and n and (self.device.min() < -1e-6 or self.device.max() > 1 + 1e-6):
            bad = self.ids[
                int(np.flatnonzero((self.device < -1e-6).any(1) | (self.device > 1 + 1e-6).any(1))[0])
            ]
            raise BadInput(f"patch {bad} has a device value outside 0..100 %")

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def is_measured(self) -> bool:
        """Whether there is anything but device values."""
        kinds = (self.spectra, self.measured_xyz, self.measured_lab, self.densities)
        return any(v is not None for v in kinds)

    def xyz(self, light: Light = "D50") -> Array:
        """XYZ (n, 3) under `light`, Y = 100 for the perfect diffuser.

        Raises `BadInput` for readings that hold device values only, or no spectra and another light than
        D50.
        """
        if self.spectra is not None:
            return spectra_to_xyz(self.spectra, light)
        if light_name(light).upper() != "D50":
            raise BadInput(
                f"these readings hold no spectra, so {light_name(light)} cannot be computed; use D50"
            )
        if self.measured_xyz is not None:
            return self.measured_xyz
        if self.measured_lab is not None:
            return lab_to_xyz(self.measured_lab)
        if self.densities is not None:
            return film_xyz(self.densities[:, VISUAL])
        raise BadInput("nothing has been measured yet: there are device values only")

    def lab(self) -> Array:
        """Lab (n, 3), D50 2 degree, absolute."""
        if self.spectra is None and self.measured_lab is not None:
            return self.measured_lab
        return xyz_to_lab(self.xyz())

    def values(self) -> Array:
        """Device values (n, channels) 0..1, or `BadInput` when there are none."""
        if self.device is None:
            raise BadInput("there are no device values; the chart cannot be recognised")
        return self.device

    def inks(self) -> Array:
        """Amounts of ink (n, channels) 0..1: device values, turned about where light is asked for (RGB)."""
        return as_inks(self.values(), self.channels)

    def select(self, index: npt.ArrayLike) -> ReadingSet:
        """The patches that `index` names, in its order: a mask (n,) or positions (m,)."""
        chosen = np.arange(len(self))[np.asarray(index)]

        def pick(values: npt.NDArray | None) -> npt.NDArray | None:
            return None if values is None else values[chosen]

        return replace(
            self,
            ids=tuple(self.ids[i] for i in chosen),
            names=None if self.names is None else tuple(self.names[i] for i in chosen),
            device=pick(self.device),
            spectra=pick(self.spectra),
            measured_xyz=pick(self.measured_xyz),
            measured_lab=pick(self.measured_lab),
            densities=pick(self.densities),
            rows=pick(self.rows),
            columns=pick(self.columns),
            sheets=pick(self.sheets),
        )

    def content_hash(self) -> str:
        """SHA-256 of everything that a result depends on; equal content gives equal text."""
        digest = hashlib.sha256()
        digest.update("\x1f".join(self.ids).encode())
        digest.update("\x1f".join((*self.channels, self.condition)).encode())
        if self.names is not None:
            digest.update("\x1f".join(self.names).encode())
        films = () if self.densities is None else (self.densities,)
        for values in (self.device, self.spectra, self.measured_xyz, self.measured_lab, *films):
            digest.update(b"-" if values is None else np.round(values, 7).astype("<f8").tobytes())
        return digest.hexdigest()


def lab_of(values: Array) -> Array:
    """Lab (n, 3) of what an instrument gives: spectra (n, 36), or transmission densities (n, 2) of a film."""
    if values.ndim == 2 and values.shape[1] == 2:
        return xyz_to_lab(film_xyz(values[:, VISUAL]))
    return spectra_to_lab(values)


def with_values(chart: ReadingSet, values: Array, condition: str) -> ReadingSet:
    """A chart with what an instrument gave of its patches, as `lab_of` takes it."""
    if values.ndim == 2 and values.shape[1] == 2:
        return replace(chart, densities=values, condition=TRANSMISSION)
    return replace(chart, spectra=values, condition=condition)


def match_chart(chart: ReadingSet, readings: ReadingSet, by: str = "id") -> ReadingSet:
    """Readings put into the order of `chart`, with the chart's device values and positions.

    Parameters
    ----------
    by
        ``id``: by patch id; device values, where the readings carry any, must agree within 0.2 %.
        ``device``: by device values within 0.2 %, whatever the ids are; patches that the chart
        repeats are taken in the order in which they stand.

    Raises `BadInput` naming the first patch that is missing, extra, or has other device values.

    >>> from greyanchor.core.formats import csv_table
    >>> head = "SAMPLE_ID,CMYK_C,CMYK_M,CMYK_Y,CMYK_K,LAB_L,LAB_A,LAB_B\\n"
    >>> chart = ReadingSet(ids=("1", "2"), channels=tuple("CMYK"), device=np.eye(4)[:2])
    >>> readings = csv_table.loads(head + "2,0,100,0,0,48,74,-3\\n1,100,0,0,0,55,-37,-50\\n")
    >>> match_chart(chart, readings).lab()[0].tolist()
    [55.0, -37.0, -50.0]
    """
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    if set(readings.channels) == set(chart.channels) and readings.device is not None:
        # inks are matched by their names, whatever their order
        order = [readings.channels.index(c) for c in chart.channels]
        readings = replace(readings, channels=chart.channels, device=readings.device[:, order])
    if readings.channels and chart.channels and readings.channels != chart.channels:
        raise BadInput(
            f"the readings are of {'+'.join(readings.channels)}, the chart is of {'+'.join(chart.channels)}"
        )
    ordered = _by_device(chart, readings) if by == "device" else _by_id(chart, readings)
    return replace(
        ordered,
        ids=chart.ids,
        channels=chart.channels,
        device=chart.device,
        names=chart.names,
        rows=chart.rows,
        columns=chart.columns,
        sheets=chart.sheets,
    )


def _by_id(chart: ReadingSet, readings: ReadingSet) -> ReadingSet:
    place = {name: i for i, name in enumerate(readings.ids)}
    missing = [name for name in chart.ids if name not in place]
    extra = len(readings) - (len(chart) - len(missing))
    if missing or extra:
        detail = f"{len(readings)} patches read, {len(chart)} on the chart"
        if missing:
            detail += f"; first missing patch: {missing[0]}"
        raise BadInput(f"these are not readings of this chart: {detail}")
    ordered = readings.select([place[name] for name in chart.ids])
    if ordered.device is not None and chart.device is not None:
        off = np.abs(ordered.device - chart.device).max(axis=1)
        if off.max() > SAME_DEVICE:
            worst = int(np.argmax(off > SAME_DEVICE))
            raise BadInput(
                f"patch {chart.ids[worst]} has other device values than the chart "
                f"({_percent(ordered.device[worst])} read, {_percent(chart.device[worst])} printed)"
            )
    return ordered


def _by_device(chart: ReadingSet, readings: ReadingSet) -> ReadingSet:
    """Each patch of the chart takes the first free reading with its device values."""
    if readings.device is None:
        raise BadInput("the readings carry no device values, so they can be matched by patch id only")
    wanted, got = chart.values(), readings.device
    if len(wanted) != len(got):
        raise BadInput(
            f"these are not readings of this chart: {len(got)} patches read, {len(wanted)} on the chart"
        )
    free: dict[tuple[int, ...], list[int]] = {}
    for i, key in enumerate(np.round(got * 100.0).astype(int).tolist()):
        free.setdefault(tuple(key), []).append(i)
    order = []
    for name, values in zip(chart.ids, wanted):
        found = _nearest_free(free, values, got)
        if found is None:
            raise BadInput(f"no reading has the device values of patch {name} ({_percent(values)} printed)")
        order.append(found)
    return readings.select(order)


def _nearest_free(free: dict[tuple[int, ...], list[int]], values: Array, got: Array) -> int | None:
    """The first free reading within 0.2 % of `values`; whole percents and their neighbours are looked up."""
    low, high = np.round((values - SAME_DEVICE) * 100.0), np.round((values + SAME_DEVICE) * 100.0)
    for key in product(*[range(int(a), int(b) + 1) for a, b in zip(low, high)]):
        for place, i in enumerate(free.get(key, ())):
            if np.abs(got[i] - values).max() <= SAME_DEVICE:
                return free[key].pop(place)
    return None


def _percent(values: Array) -> str:
    return "/".join(f"{100 * v:.1f}" for v in values)
