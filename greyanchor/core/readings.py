"""ReadingSet: what an instrument saw of a chart, and what two of them say about each other."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from greyanchor.core.colorimetry import BANDS, Array, delta_e_2000, lab_to_xyz, spectra_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput

CONDITIONS = ("M0", "M1", "M2", "M3")


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
    condition
        ISO 13655 measurement condition, ``M0`` to ``M3``.
    rows
        Row number on the chart of each patch, (n,) integers counted from 1 through all sheets, or None.
    columns
        Place in the row, counted from 1, or None.
    sheets
        Sheet of each patch, counted from 1, or None.
    meta
        Free facts that travel with the file (printer, instrument, environment name ...).
    """

    ids: tuple[str, ...]
    channels: tuple[str, ...] = ()
    device: Array | None = None
    spectra: Array | None = None
    measured_xyz: Array | None = None
    measured_lab: Array | None = None
    condition: str = "M1"
    rows: npt.NDArray[np.int64] | None = None
    columns: npt.NDArray[np.int64] | None = None
    sheets: npt.NDArray[np.int64] | None = None
    meta: dict[str, str] = field(default_factory=dict)

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
        ):
            value = getattr(self, name)
            if value is None:
                continue
            if value.shape != (n, width):
                raise BadInput(f"{name} has shape {value.shape}, expected {(n, width)}")
            if not np.isfinite(value).all():
                bad = self.ids[int(np.flatnonzero(~np.isfinite(value).all(axis=1))[0])]
                raise BadInput(f"patch {bad} holds a value that is not a number")
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
        return any(v is not None for v in (self.spectra, self.measured_xyz, self.measured_lab))

    def xyz(self, light: str = "D50") -> Array:
        """XYZ (n, 3) under `light`; readings without spectra know D50 only and say so."""
        if self.spectra is not None:
            return spectra_to_xyz(self.spectra, light)
        if light.upper() != "D50":
            raise BadInput(f"these readings hold no spectra, so {light} cannot be computed; use D50")
        if self.measured_xyz is not None:
            return self.measured_xyz
        if self.measured_lab is not None:
            return lab_to_xyz(self.measured_lab)
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

    def select(self, index: npt.ArrayLike) -> ReadingSet:
        """The patches that `index` (mask or positions) names, in its order."""
        chosen = np.arange(len(self))[np.asarray(index)]

        def pick(values: npt.NDArray | None) -> npt.NDArray | None:
            return None if values is None else values[chosen]

        return replace(
            self,
            ids=tuple(self.ids[i] for i in chosen),
            device=pick(self.device),
            spectra=pick(self.spectra),
            measured_xyz=pick(self.measured_xyz),
            measured_lab=pick(self.measured_lab),
            rows=pick(self.rows),
            columns=pick(self.columns),
            sheets=pick(self.sheets),
        )

    def content_hash(self) -> str:
        """SHA-256 of everything that a result depends on; equal content gives equal text."""
        digest = hashlib.sha256()
        digest.update("\x1f".join(self.ids).encode())
        digest.update("\x1f".join((*self.channels, self.condition)).encode())
        for values in (self.device, self.spectra, self.measured_xyz, self.measured_lab):
            digest.update(b"-" if values is None else np.round(values, 7).astype("<f8").tobytes())
        return digest.hexdigest()


def match_chart(chart: ReadingSet, readings: ReadingSet) -> ReadingSet:
    """Readings put into the order of `chart`, with the chart's device values and positions.

    Matched by patch id; device values, where the readings carry any, must agree within 0.2 %.
    Raises `BadInput` naming the first patch that is missing, extra, or has other device values.
    """
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    if readings.channels and chart.channels and readings.channels != chart.channels:
        raise BadInput(
            f"the readings are of {'+'.join(readings.channels)}, the chart is of {'+'.join(chart.channels)}"
        )
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
        if off.max() > 0.002:
            worst = int(np.argmax(off > 0.002))
            raise BadInput(
                f"patch {chart.ids[worst]} has other device values than the chart "
                f"({_percent(ordered.device[worst])} read, {_percent(chart.device[worst])} printed)"
            )
    return replace(
        ordered,
        channels=chart.channels,
        device=chart.device,
        rows=chart.rows,
        columns=chart.columns,
        sheets=chart.sheets,
    )


def _percent(values: Array) -> str:
    return "/".join(f"{100 * v:.1f}" for v in values)


@dataclass(frozen=True)
class Comparison:
    """Two passes of one sheet held against each other; differences are dE00."""

    ids: tuple[str, ...]
    differences: Array
    rows: npt.NDArray[np.int64] | None
    outliers: tuple[str, ...]
    suspect_rows: tuple[int, ...]

    @property
    def mean(self) -> float:
        return float(self.differences.mean())

    @property
    def p95(self) -> float:
        return float(np.percentile(self.differences, 95))

    @property
    def max(self) -> float:
        return float(self.differences.max())

    def acceptable(self, mean: float = 0.5, largest: float = 2.0) -> bool:
        """Default acceptance: mean <= 0.5, maximum <= 2.0 dE00."""
        return self.mean <= mean and self.max <= largest


def compare(first: ReadingSet, second: ReadingSet) -> Comparison:
    """Double reading: per-patch dE00 between two passes, outliers and suspect rows.

    An outlier lies more than 6 scaled median absolute deviations above the median and above
    1.0 dE00. A row is suspect when at least half of its patches, and no fewer than three, are
    outliers, or when its median is itself an outlier among the rows.
    """
    if set(first.ids) != set(second.ids):
        only = sorted(set(first.ids) ^ set(second.ids))
        raise BadInput(
            f"the two passes are not of one chart: {len(first)} and {len(second)} patches; "
            f"patch {only[0]} is in one of them only"
        )
    if first.condition != second.condition:
        raise BadInput(
            f"one pass was read as {first.condition}, the other as {second.condition}; read both alike"
        )
    place = {name: i for i, name in enumerate(second.ids)}
    second = second.select([place[name] for name in first.ids])
    if first.device is not None and second.device is not None and first.device.shape == second.device.shape:
        off = np.abs(first.device - second.device).max(axis=1)
        if off.max() > 0.002:
            bad = first.ids[int(np.argmax(off))]
            raise BadInput(f"the two passes are not of one chart: patch {bad} has different device values")
    difference = delta_e_2000(first.lab(), second.lab())
    limit = robust_limit(difference)
    is_outlier = difference > limit
    rows = first.rows if first.rows is not None else second.rows
    suspects: list[int] = []
    if rows is not None:
        numbers = np.unique(rows)
        medians = np.array([np.median(difference[rows == r]) for r in numbers])
        row_limit = robust_limit(medians)
        for number, median in zip(numbers, medians):
            members = is_outlier[rows == number]
            many = members.sum() >= max(3, 0.5 * len(members))
            if many or (len(numbers) > 3 and median > row_limit):
                suspects.append(int(number))
    return Comparison(
        ids=first.ids,
        differences=difference,
        rows=rows,
        outliers=tuple(first.ids[i] for i in np.flatnonzero(is_outlier)),
        suspect_rows=tuple(suspects),
    )


def robust_limit(values: Array, deviations: float = 6.0, floor: float = 1.0) -> float:
    """Median plus `deviations` scaled median absolute deviations, but never under `floor`."""
    median = float(np.median(values))
    spread = 1.4826 * float(np.median(np.abs(values - median)))
    return max(floor, median + deviations * spread)


def average(passes: Sequence[ReadingSet]) -> ReadingSet:
    """Mean of several passes of one chart: of spectra where all have them, else of XYZ.

    Raises `BadInput` when conditions are mixed or the passes are not of one chart.
    """
    if not passes:
        raise BadInput("no readings to average")
    first = passes[0]
    if len(passes) == 1:
        return first
    aligned = [first]
    for other in passes[1:]:
        if set(other.ids) != set(first.ids):
            raise BadInput(f"the passes are not of one chart: {len(first)} and {len(other)} patches")
        if other.condition != first.condition:
            raise BadInput(f"{first.condition} and {other.condition} readings are never averaged together")
        place = {name: i for i, name in enumerate(other.ids)}
        aligned.append(other.select([place[name] for name in first.ids]))
    if all(p.spectra is not None for p in aligned):
        return replace(
            first,
            spectra=np.mean([p.spectra for p in aligned if p.spectra is not None], axis=0),
            measured_xyz=None,
            measured_lab=None,
        )
    xyz = np.mean([p.xyz() for p in aligned], axis=0)
    return replace(first, spectra=None, measured_xyz=xyz, measured_lab=None)


@dataclass(frozen=True)
class RowVerdict:
    """Whether a row that was just read can be what the chart says; `reason` is told to the hands."""

    ok: bool
    reason: str = ""


def judge_row(
    expected: Array, measured: Array, others: dict[int, Array] | None = None, rough: bool = True
) -> RowVerdict:
    """Hold a row's Lab (n, 3) against what is expected of it, and against likely slips.

    What counts is whether reading the row backwards, shifted by a patch, or another row (`others`,
    by number) explains it far better. `rough` says that the expectation is only a model; an earlier
    reading of the same row is held to much less.
    """
    if len(measured) != len(expected):
        return RowVerdict(
            False, f"{len(measured)} patches seen, {len(expected)} expected: move at an even pace"
        )
    own = _pattern_error(expected, measured)
    slips: list[tuple[float, str]] = []
    if len(expected) > 3:
        slips.append((_pattern_error(expected[::-1], measured), "it was read backwards: start at the label"))
        slips.append(
            (
                _pattern_error(expected[1:], measured[:-1]),
                "the first patch was missed: start on the white before it",
            )
        )
        slips.append(
            (_pattern_error(expected[:-1], measured[1:]), "a patch was read twice: move at an even pace")
        )
    for number, lab in (others or {}).items():
        if len(lab) == len(measured):
            slips.append(
                (_pattern_error(lab, measured), f"this looks like row {number}: place the ruler again")
            )
    if slips:
        best, reason = min(slips)
        if best < 0.5 * own and own > (3.0 if rough else 1.0):
            return RowVerdict(False, reason)
    return RowVerdict(True)


def _pattern_error(expected: Array, measured: Array) -> float:
    """Median Lab distance after a common offset is taken out, so that a rough model still tells rows."""
    delta = measured - expected
    return float(np.median(np.linalg.norm(delta - np.median(delta, axis=0), axis=1)))
