"""Several passes over one sheet: where they agree, which patch, row or sheet does not, and their mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array, delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.alignment import cost_of
from greyanchor.core.measurement.density_gap import DensityGap, density_gap
from greyanchor.core.measurement.expectation import Expectation, fit_common, plain
from greyanchor.core.measurement.misreads import gap_between
from greyanchor.core.measurement.readings import SAME_DEVICE, ReadingSet

#: default acceptance of a double reading, dE00
MEAN_LIMIT, LARGEST_LIMIT = 0.5, 2.0
#: patches repeated on a sheet that lie farther from their mean than this (dE00) make the sheet uneven
UNEVEN_LIMIT = 1.2
#: passes whose inked patches lie farther apart than this as a whole (Lab) were not read of the same dry sheet
MOVED_LIMIT = 0.45
#: by how much two passes must differ in cost, and in spreads of a patch, for one of them to be named
_CLEAR, _CLEAR_SPREADS = 8.0, 3.0
#: patches from which on a guess may say which of two passes is wrong
_BENT_FROM = 60
#: what writing a pass to a file and reading it again may change of its figures
_WRITTEN = 1e-5


@dataclass(frozen=True)
class Comparison:
    """Passes of one sheet held against each other; differences are dE00.

    Attributes
    ----------
    ids, rows
        Patches (n) and the row of each.
    differences
        Largest difference of each patch (n,) between any two passes.
    outliers
        Patches that no row explains: scratches, specks, a slip on one patch.
    suspect_rows
        Rows that differ as a whole.
    worst_pass
        For each suspect row and each outlier, which pass (counted from 1) stands alone; 0 when two
        passes cannot say.
    shift
        Median difference over all patches.
    moved
        How far the passes lie apart as wholes: length of the mean Lab difference over inked patches.
    uneven
        Largest dE00 of repeated patches from their mean, the passes averaged; None without repeats.
    films
        How far densities lie apart, of passes over a film; None for prints.
    """

    ids: tuple[str, ...]
    differences: Array
    rows: npt.NDArray[np.int64] | None
    outliers: tuple[str, ...]
    suspect_rows: tuple[int, ...]
    worst_pass: dict[str, int]
    shift: float
    moved: float = 0.0
    uneven: float | None = None
    passes: int = 2
    films: DensityGap | None = None

    @property
    def mean(self) -> float:
        """Mean difference of all patches, dE00."""
        return float(self.differences.mean())

    @property
    def p95(self) -> float:
        """95th percentile of the differences, dE00."""
        return float(np.percentile(self.differences, 95))

    @property
    def max(self) -> float:
        """Largest difference, dE00."""
        return float(self.differences.max())

    def acceptable(self, mean: float = MEAN_LIMIT, largest: float = LARGEST_LIMIT) -> bool:
        """Default acceptance: mean <= 0.5, maximum <= 2.0 dE00, and densities of films that agree."""
        near = self.mean <= mean and self.max <= largest
        return near and (self.films is None or self.films.acceptable)

    @property
    def within(self) -> str:
        """How near the passes are in words: densities of films, colour of prints."""
        if self.films is not None:
            return f"{self.films.largest:.2f} of density"
        return f"{self.mean:.2f} dE00 mean"

    @property
    def apart(self) -> str:
        """What differs in words: the patch of a film, or the colours of a print."""
        if self.films is not None and not self.films.acceptable:
            return f"{self.films.difference:.2f} of {self.films.kind} density at {self.films.patch}"
        return f"mean {self.mean:.2f}, largest {self.max:.2f} dE00"

    @property
    def unlike(self) -> bool:
        """Whether the passes have nothing to do with each other: another sheet, or another chart."""
        return self.shift > 6.0

    @property
    def stray_patches(self) -> tuple[str, ...]:
        """Outliers outside the suspect rows: single patches, distinguished from misread rows."""
        if self.rows is None:
            return self.outliers
        row_of = dict(zip(self.ids, self.rows.tolist()))
        return tuple(i for i in self.outliers if row_of[i] not in self.suspect_rows)

    def advice(self) -> list[str]:
        """What the figures mean, in plain words, most important first."""
        if self.unlike:
            return [
                (
                    f"The passes have nothing to do with each other (median {self.shift:.1f} dE00): another "
                    "sheet or another chart was read."
                )
            ]
        items = []
        if self.films is not None and not self.films.acceptable:
            gap = self.films
            items.append(
                f"Patch {gap.patch} differs by {gap.difference:.2f} in {gap.kind} density, "
                f"{gap.allowed:.2f} is what readings of one film do: read its row again."
            )
        for row in self.suspect_rows:
            which = self.worst_pass.get(f"row {row}", 0)
            items.append(
                f"Row {row} differs as a whole{f'; pass {which} stands alone' if which else ''}: it was "
                "misread. Read it again."
            )
        for name in self.stray_patches[:6]:
            which = self.worst_pass.get(name, 0)
            items.append(
                f"Patch {name} differs alone{f', in pass {which}' if which else ''}: a speck, a "
                "scratch or "
                "a slip."
            )
        if self.moved > MOVED_LIMIT and len(self.suspect_rows) < 3:
            items.append(
                f"All inked patches moved alike (by {self.moved:.1f} in Lab): the sheet was still "
                "drying, "
                "or the white calibration slipped."
            )
        if self.uneven is not None and self.uneven > UNEVEN_LIMIT:
            items.append(
                f"Repeated patches lie up to {self.uneven:.1f} dE00 from their mean though the "
                "passes agree "
                "on them: the sheet is uneven, reading again does not help."
            )
        return items


def is_copy(first: ReadingSet, second: ReadingSet) -> bool:
    """Whether two passes of one chart hold the same figures digit for digit, as a file sent twice does.

    An instrument never repeats itself to the sixth decimal over a chart, so a copy is no second reading.
    """
    for name in ("spectra", "measured_xyz", "measured_lab", "densities"):
        one, other = getattr(first, name), getattr(second, name)
        if one is not None and other is not None:
            return one.shape == other.shape and bool(np.allclose(one, other, rtol=0.0, atol=_WRITTEN))
    return False


def from_pass(lab: Array, number: int, noise: float = 0.30) -> Expectation:
    """What a sheet should read again, from pass `number` over it: Lab (n, 3)."""
    return plain(lab, noise, f"pass {number}", shift=0.25)


def compare(first: ReadingSet, second: ReadingSet) -> Comparison:
    """Double reading: `compare_passes` of two."""
    return compare_passes([first, second])


def compare_passes(passes: Sequence[ReadingSet], expected: Expectation | None = None) -> Comparison:
    """Any number of passes over one sheet: per-patch differences, outliers, suspect rows, unevenness.

    An outlier lies more than 6 scaled median absolute deviations above the median and above 1.0 dE00. A
    row is suspect when at least half of its patches, and no fewer than three, are outliers, or when its
    median is itself an outlier among the rows. With three passes or more, the pass farthest from the
    median of all is named; two passes are weighed against what is `expected`, where anything is.

    Raises `BadInput` for a single pass.
    """
    if len(passes) < 2:
        raise BadInput("one pass alone cannot be compared; read the sheet again")
    aligned = _aligned(passes)
    labs = np.stack([p.lab() for p in aligned])
    pairs = [delta_e_2000(labs[i], labs[j]) for i in range(len(labs)) for j in range(i + 1, len(labs))]
    difference = np.max(pairs, axis=0)
    limit = robust_limit(difference)
    is_outlier = difference > limit
    rows = next((p.rows for p in aligned if p.rows is not None), None)
    suspects = _suspect_rows(difference, is_outlier, rows)
    ids = aligned[0].ids
    outliers = tuple(ids[i] for i in np.flatnonzero(is_outlier))
    return Comparison(
        ids=ids,
        differences=difference,
        rows=rows,
        outliers=outliers,
        suspect_rows=suspects,
        worst_pass=_worst_pass(labs, ids, is_outlier, rows, suspects, expected),
        shift=float(np.median(difference)),
        moved=_moved(labs),
        uneven=unevenness(aligned),
        passes=len(aligned),
        films=_films(aligned),
    )


def _films(aligned: Sequence[ReadingSet]) -> DensityGap | None:
    densities = [p.densities for p in aligned if p.densities is not None]
    return density_gap(aligned[0].ids, densities) if len(densities) == len(aligned) else None


def _aligned(passes: Sequence[ReadingSet]) -> list[ReadingSet]:
    """All passes in the order of the first; `BadInput` when they are not of one chart and condition."""
    first, out = passes[0], [passes[0]]
    for other in passes[1:]:
        if set(first.ids) != set(other.ids):
            only = sorted(set(first.ids) ^ set(other.ids))
            raise BadInput(
                f"the two passes are not of one chart: {len(first)} and {len(other)} patches; "
                f"patch {only[0]} is in one of them only"
            )
        if first.condition != other.condition:
            raise BadInput(
                f"one pass was read as {first.condition}, the other as {other.condition}; read both alike"
            )
        if other.ids != first.ids:
            place = {name: i for i, name in enumerate(other.ids)}
            other = other.select([place[name] for name in first.ids])
        if first.device is not None and other.device is not None and first.device.shape == other.device.shape:
            off = np.abs(first.device - other.device).max(axis=1)
            if off.max() > SAME_DEVICE:
                bad = first.ids[int(np.argmax(off))]
                raise BadInput(
                    f"the two passes are not of one chart: patch {bad} has different device values"
                )
        out.append(other)
    return out


def _suspect_rows(
    difference: Array, is_outlier: npt.NDArray[np.bool_], rows: npt.NDArray[np.int64] | None
) -> tuple[int, ...]:
    if rows is None:
        return ()
    numbers = np.unique(rows)
    medians = np.array([np.median(difference[rows == r]) for r in numbers])
    row_limit = robust_limit(medians)
    suspects = []
    for number, median in zip(numbers, medians):
        members = is_outlier[rows == number]
        many = members.sum() >= max(3, 0.5 * len(members))
        if many or (len(numbers) > 3 and median > row_limit):
            suspects.append(int(number))
    return tuple(suspects)


def _moved(labs: Array) -> float:
    """Largest length of the mean Lab difference between two passes (passes, patches, 3), over the darker
    patches.

    Means are of the middle half of the patches in each coordinate, so that misread rows do not count.
    """
    inked = labs[0, :, 0] < 80.0
    if inked.sum() < 12:
        return 0.0
    found = 0.0
    for i in range(len(labs)):
        for j in range(i + 1, len(labs)):
            delta = np.sort(labs[j, inked] - labs[i, inked], axis=0)
            quarter = len(delta) // 4
            found = max(found, float(np.linalg.norm(delta[quarter : len(delta) - quarter].mean(axis=0))))
    return found


def _worst_pass(
    labs: Array,
    ids: tuple[str, ...],
    is_outlier: npt.NDArray[np.bool_],
    rows: npt.NDArray[np.int64] | None,
    suspects: tuple[int, ...],
    expected: Expectation | None,
) -> dict[str, int]:
    if len(labs) < 3:
        return _weighed(labs, ids, is_outlier, rows, suspects, expected)
    middle = np.median(labs, axis=0)
    off = np.stack([delta_e_2000(middle, lab) for lab in labs])
    worst = {ids[i]: int(off[:, i].argmax()) + 1 for i in np.flatnonzero(is_outlier)}
    for row in suspects:
        assert rows is not None
        worst[f"row {row}"] = int(np.median(off[:, rows == row], axis=1).argmax()) + 1
    return worst


def _weighed(
    labs: Array,
    ids: tuple[str, ...],
    is_outlier: npt.NDArray[np.bool_],
    rows: npt.NDArray[np.int64] | None,
    suspects: tuple[int, ...],
    expected: Expectation | None,
) -> dict[str, int]:
    """Which of two passes (2, n, 3) lies clearly farther from what is expected, row by row and patch by
    patch.
    """
    if expected is None or (expected.rough and len(ids) < _BENT_FROM):
        return {}
    agreed = np.flatnonzero(~is_outlier)
    near = expected.bent(agreed, labs.mean(axis=0)[agreed])
    worst: dict[str, int] = {}
    for row in suspects:
        assert rows is not None
        places = np.flatnonzero(rows == row)
        costs = [cost_of(near.select(places), lab[places]) for lab in labs]
        best = min(costs)
        if gap_between(max(costs), best, len(places)) > _CLEAR:
            worst[f"row {row}"] = int(np.argmax(costs)) + 1
    # a suspect row is weighed as a whole: single patches of it may lie nearer to what was expected by chance
    within = np.isin(rows, suspects) if rows is not None else np.zeros(len(ids), dtype=bool)
    outliers = np.flatnonzero(is_outlier & ~within)
    if near.rough or not len(outliers):
        return worst
    common = fit_common(near.select(agreed), labs.mean(axis=0)[agreed])[0] if len(agreed) else 0.0
    centre = near.lab + near.slopes @ common if len(agreed) else near.lab
    off = np.linalg.norm(labs[:, outliers] - centre[outliers], axis=2)
    for place, i in enumerate(outliers):
        least, most = sorted(off[:, place])
        if most > 2.0 * least and most - least > _CLEAR_SPREADS * near.spread[i]:
            worst[ids[i]] = int(off[:, place].argmax()) + 1
    return worst


def unevenness(passes: Sequence[ReadingSet]) -> float | None:
    """Largest dE00 of a repeated patch from the mean of its like, the passes averaged (median); None without
    repeats.
    """
    device = passes[0].device
    if device is None:
        return None
    _, group, count = np.unique(np.round(device, 4), axis=0, return_inverse=True, return_counts=True)
    group = group.reshape(-1)
    if count.max() < 2:
        return None
    lab = np.median(np.stack([p.lab() for p in passes]), axis=0)
    centre = np.stack([np.bincount(group, lab[:, k]) / count for k in range(3)], axis=1)
    repeated = count[group] > 1
    return float(delta_e_2000(lab[repeated], centre[group][repeated]).max())


def robust_limit(values: Array, deviations: float = 6.0, floor: float = 1.0) -> float:
    """Median of values (n,) plus `deviations` scaled median absolute deviations, but never under `floor`,
    in the units of the values.

    >>> round(robust_limit(np.array([0.2, 0.3, 0.3, 0.4, 5.0])), 2)
    1.19
    """
    median = float(np.median(values))
    spread = 1.4826 * float(np.median(np.abs(values - median)))
    return max(floor, median + deviations * spread)


def average(passes: Sequence[ReadingSet]) -> ReadingSet:
    """Mean of several passes of one chart: of spectra where all have them, of densities of films, else of
    XYZ.

    With three passes or more, a reading that lies an outlier's distance from the median of all is
    left out of the mean of its patch. Raises `BadInput` when conditions are mixed or the passes are
    not of one chart.
    """
    if not passes:
        raise BadInput("no readings to average")
    first = passes[0]
    if len(passes) == 1:
        return first
    for other in passes[1:]:
        if other.condition != first.condition:
            raise BadInput(f"{first.condition} and {other.condition} readings are never averaged together")
    aligned = _aligned(passes)
    weight = _trusted(aligned)[:, :, None]
    if all(p.spectra is not None for p in aligned):
        spectra = np.stack([p.spectra for p in aligned if p.spectra is not None])
        mean = (spectra * weight).sum(axis=0) / weight.sum(axis=0)
        return replace(first, spectra=mean, measured_xyz=None, measured_lab=None)
    if all(p.densities is not None for p in aligned):
        films = np.stack([p.densities for p in aligned if p.densities is not None])
        return replace(first, densities=(films * weight).sum(axis=0) / weight.sum(axis=0))
    xyz = (np.stack([p.xyz() for p in aligned]) * weight).sum(axis=0) / weight.sum(axis=0)
    return replace(first, spectra=None, measured_xyz=xyz, measured_lab=None)


def _trusted(passes: Sequence[ReadingSet]) -> Array:
    """Ones (passes, patches), with zeros for readings far from the median of three passes or more."""
    weight = np.ones((len(passes), len(passes[0])))
    if len(passes) < 3:
        return weight
    labs = np.stack([p.lab() for p in passes])
    middle = np.median(labs, axis=0)
    off = np.stack([delta_e_2000(middle, lab) for lab in labs])
    weight[off > robust_limit(off)] = 0.0
    alone = weight.sum(axis=0) < 1
    weight[:, alone] = 1.0
    return weight
