"""A check: one print against one aim under one tolerance set."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from greyanchor.core.calibration import g7
from greyanchor.core.colour.colorimetry import Array, lab_difference
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.measurement.repeatability import unevenness
from greyanchor.core.verification.aims import Aim, substrate_corrected
from greyanchor.core.verification.groups import Mask, groups
from greyanchor.core.verification.query import Query, is_query
from greyanchor.core.verification.statistics import statistic
from greyanchor.core.verification.tolerances import Criterion, ToleranceSet

WORST = 10
#: repeats of one patch that lie farther than this (dE00) from their mean are reported
REPEATS_DISAGREE = 1.5
#: header of charts whose repeated patches are averaged before they are judged
AVERAGED = "REPEATS"


@dataclass(frozen=True)
class Finding:
    """One criterion's outcome; `value` is None and the verdict ``not tested`` when no patch belongs to it."""

    criterion: Criterion
    value: float | None
    count: int

    @property
    def verdict(self) -> str:
        """``pass``, ``fail``, ``reported`` where nothing limits it, or ``not tested``."""
        if self.value is None:
            return "not tested"
        if self.criterion.limit is None:
            return "reported"
        return "pass" if self.value <= self.criterion.limit else "fail"

    @property
    def left(self) -> float | None:
        """What remains to the limit, negative when it is passed over; None without value or limit."""
        if self.value is None or self.criterion.limit is None:
            return None
        return self.criterion.limit - self.value

    @property
    def used(self) -> float | None:
        """Percent of the limit that the value takes; None without value or limit."""
        if self.value is None or self.criterion.limit is None:
            return None
        return 100.0 * self.value / self.criterion.limit

    @property
    def near(self) -> bool:
        """Passed, but over the criterion's warning level."""
        warning = self.criterion.warning
        return self.verdict == "pass" and warning is not None and (self.value or 0.0) > warning


@dataclass(frozen=True)
class CheckResult:
    """Everything a report needs.

    Attributes
    ----------
    tolerances
        The set that was applied.
    findings
        One for each criterion, in order.
    ids, device, aim, measured
        Patches with aim and measured Lab (n, 3). Device values are None for colours known by name alone.
    differences
        dE00 of each patch (n,), or dE*ab where the set is judged in it.
    measure
        ``de00`` or ``de76``.
    corrected
        Whether the aim was carried onto the shop's paper.
    notes
        What a reader must know: other conditions, patches without an aim, repeats that disagree.
    spots
        Name (and tint) of the spot colour that each patch shows, empty for process colours.
    exact_greys
        Whether grey balance was held to the grey scales of the aim's own data.
    """

    tolerances: ToleranceSet
    findings: tuple[Finding, ...]
    ids: tuple[str, ...]
    device: Array | None
    aim: Array
    measured: Array
    differences: Array
    measure: str
    corrected: bool
    notes: tuple[str, ...] = ()
    spots: tuple[str, ...] = ()
    exact_greys: bool = False
    places: dict[str, Array | None] = field(default_factory=dict)

    @property
    def verdict(self) -> str:
        """``pass`` when nothing failed and something was tested."""
        limited = [f.verdict for f in self.findings if f.criterion.limit is not None]
        return "pass" if "fail" not in limited and "pass" in limited else "fail"

    @property
    def not_tested(self) -> tuple[str, ...]:
        """Titles of the limited criteria that no patch, or not all the patches they need, were there for."""
        return tuple(
            f.criterion.title for f in self.findings if f.criterion.limit is not None and f.value is None
        )

    @property
    def score(self) -> float | None:
        """Weighted mean share of the limits that is used, percent; None when nothing with weight was
        tested.
        """
        parts = [(f.used, f.criterion.weight) for f in self.findings if f.used is not None]
        total = sum(w for _, w in parts)
        return None if total <= 0 else sum((u or 0.0) * w for u, w in parts) / total

    @property
    def grade(self) -> str:
        """The named band of a passing check; empty without bands, and for a check that fails."""
        if self.verdict != "pass" or self.score is None:
            return ""
        return self.tolerances.grade(self.score)

    def worst(self, count: int = WORST) -> list[tuple[str, float]]:
        """Patches with the largest differences, worst first."""
        order = np.argsort(-self.differences, kind="stable")[:count]
        return [(self.ids[i], float(self.differences[i])) for i in order]

    def as_dict(self) -> dict[str, Any]:
        """The contract's JSON."""
        return {
            "verdict": self.verdict,
            "tolerances": self.tolerances.id,
            "patches": len(self.ids),
            "criteria": [
                {
                    "id": f.criterion.id,
                    "value": None if f.value is None else round(f.value, 4),
                    "limit": f.criterion.limit,
                    "verdict": f.verdict,
                }
                for f in self.findings
                if f.criterion.limit is not None
            ],
            "worst": [{"id": name, "difference": round(value, 4)} for name, value in self.worst()],
        }


def check(
    readings: ReadingSet,
    aim: Aim,
    tolerances: ToleranceSet,
    corrected: bool = False,
    leave_out: bool = False,
) -> CheckResult:
    """Hold `readings` of a CMYK strip, or of colours known by name, to `aim` under `tolerances`.

    With `corrected` the aim is carried onto the measured paper first; that needs an unprinted patch.
    Spot
    colours keep their aims. With `leave_out` patches that the aim does not know are left out, and
    criteria whose group lost one are ``not tested``, but for those over all patches.
    Raises `BadInput` when aim and readings do not belong together.

    >>> from greyanchor.core.charts.patches import control_strip
    >>> from greyanchor.core.verification import aims, generic_aims, shipped
    >>> strip, ids = control_strip(), tuple(map(str, range(54)))
    >>> printed = ReadingSet(ids, tuple("CMYK"), strip, measured_lab=generic_aims.aim_lab(strip))
    >>> aim = aims.from_data(generic_aims.aim_data(), "generic")
    >>> check(printed, aim, shipped.load("iso12647-7:2016")).verdict
    'pass'
    """
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    if readings.device is not None and readings.channels != tuple("CMYK"):
        raise BadInput(
            f"checks are defined for CMYK readings, not for {'+'.join(readings.channels) or 'no channels'}"
        )
    notes = [*_repeats(readings), *_conditions(readings, aim)]
    if readings.meta.get(AVERAGED, "") == "averaged":
        readings = average_repeats(readings)
    target = aim.lab_where_known(readings)
    notes += _interpolated(readings, aim)
    known = ~np.isnan(target[:, 0])
    lost: tuple[str, ...] = ()
    if not known.all():
        if not (leave_out and known.any()):
            aim.lab_for(readings)
        lost = tuple(readings.ids[i] for i in np.flatnonzero(~known))
        notes.append(
            f"The aim {aim.name} holds no value for {len(lost)} of {len(readings)} patches, which were "
            "left out: "
            f"{', '.join(lost[:6])}{' and more' if len(lost) > 6 else ''}."
        )
    incomplete = _incomplete(readings, aim, known, tolerances)
    used = readings if known.all() else readings.select(known)
    return _judge(used, aim, tolerances, target[known], corrected, tuple(notes), incomplete)


def _interpolated(readings: ReadingSet, aim: Aim) -> list[str]:
    found = np.flatnonzero(aim.interpolated(readings))
    if not len(found) or aim.filled is None:
        return []
    names = ", ".join(readings.ids[i] for i in found[:6])
    return [
        f"The aim {aim.name} lacks {len(found)} of {len(readings)} patches: they are held to values "
        f"interpolated from its own data ({aim.filled.meta.get('INTERPOLATED', 'error not known')}): "
        f"{names}{' and more' if len(found) > 6 else ''}."
    ]


def _judge(
    readings: ReadingSet,
    aim: Aim,
    tolerances: ToleranceSet,
    target: Array,
    corrected: bool,
    notes: tuple[str, ...],
    incomplete: frozenset[str],
) -> CheckResult:
    measured, device, spots = readings.lab(), readings.device, aim.spot_names(readings)
    masks = _masks(device, spots, len(readings))
    if corrected:
        paper = masks["substrate"]
        if not paper.any():
            raise BadInput("a substrate-corrected check needs an unprinted patch, and the readings have none")
        process = ~(masks["spots"] | masks["spot_tints"])
        target = target.copy()
        target[process] = substrate_corrected(
            target[process],
            paper[process],
            target[paper].mean(axis=0),
            measured[paper].mean(axis=0),
            aim.darkest,
        )
    weighs = any(c.measure in ("wdl", "wdch") for c in tolerances.criteria)
    exact = weighs and aim.gives_greys
    if weighs and not exact and aim.data is not None:
        notes = (
            *notes,
            f"The grey scales of the aim {aim.name} are missing or are not G7 grey themselves, so the "
            "published "
            "anchors are the aim of the grey scales.",
        )
    judged = Judged(tolerances, device, target, masks, exact)
    values, differences = judged.figures(measured)
    findings = []
    for criterion, value in zip(tolerances.criteria, values):
        count = int(judged.mask_of(criterion).sum())
        findings.append(Finding(criterion, None if criterion.id in incomplete else value, count))
    return CheckResult(
        tolerances,
        tuple(findings),
        readings.ids,
        device,
        target,
        measured,
        differences,
        tolerances.main_measure,
        corrected,
        notes,
        spots,
        exact,
        {"rows": readings.rows, "columns": readings.columns, "sheets": readings.sheets},
    )


@dataclass
class Judged:
    """What stays the same when one strip is judged again with other readings: set, aim (n, 3) and groups."""

    tolerances: ToleranceSet
    device: Array | None
    target: Array
    masks: dict[str, Mask]
    exact_greys: bool

    @property
    def weighs_greys(self) -> bool:
        """Whether grey scales are part of it, whose aim depends on the print's own paper and maxima."""
        weighed = any(c.measure in ("wdl", "wdch") for c in self.tolerances.criteria)
        return self.device is not None and weighed

    def mask_of(self, criterion: Criterion) -> Mask:
        """Patches (n,) that a criterion speaks of."""
        if is_query(criterion.group):
            if criterion.group not in self.masks:
                process = ~(self.masks["spots"] | self.masks["spot_tints"])
                asked = (
                    np.zeros(len(self.target), dtype=bool)
                    if self.device is None
                    else Query(criterion.group).mask(self.device, tuple("CMYK")) & process
                )
                self.masks[criterion.group] = asked
            return self.masks[criterion.group]
        return self.masks[criterion.group]

    def figures(self, measured: Array) -> tuple[list[float | None], Array]:
        """The value of every criterion for measured Lab (n, 3), and the differences (n,) in the main
        measure.
        """
        rows, differences = self.figures_of_many(measured[None])
        return rows[0], differences[0]

    def figures_of_many(self, measured: Array) -> tuple[list[list[float | None]], Array]:
        """The same of several readings (readings, n, 3): a row of values each, and differences
        (readings, n).
        """
        difference = lab_difference(np.broadcast_to(self.target, measured.shape), measured)
        values: dict[str, Array] = {
            "de00": difference.de00,
            "de76": difference.de76,
            "dl": np.abs(difference.dl),
            "dc": np.abs(difference.dc),
            "dh": np.abs(difference.dh),
            "dch": difference.dch,
        }
        if self.weighs_greys:
            weighed = [self._weighed(lab) for lab in measured]
            values["wdl"], values["wdch"] = (np.stack(column) for column in zip(*weighed))
        columns = [
            self._figures_of(criterion, values, len(measured)) for criterion in self.tolerances.criteria
        ]
        return [list(row) for row in zip(*columns)], values[self.tolerances.main_measure]

    def _weighed(self, measured: Array) -> tuple[Array, Array]:
        assert self.device is not None
        grey = self.target if self.exact_greys else g7.aim_lab(self.device, measured)
        return g7.weighted(self.device, grey, measured)

    def _figures_of(self, criterion: Criterion, values: dict[str, Array], count: int) -> list[float | None]:
        """One criterion of several readings; None where no patch, or not all of them, can say it."""
        if criterion.measure not in values:
            return [None] * count
        chosen, judge = values[criterion.measure][:, self.mask_of(criterion)], statistic(criterion.statistic)
        if not chosen.shape[1]:
            return [None] * count
        return [None if np.isnan(row).any() else judge(row) for row in chosen]


def again(result: CheckResult) -> Judged:
    """What judged `result`, ready to judge other readings of the same strip."""
    masks = _masks(result.device, result.spots, len(result.ids))
    return Judged(result.tolerances, result.device, result.aim, masks, result.exact_greys)


def _masks(device: Array | None, spots: tuple[str, ...], count: int) -> dict[str, Mask]:
    """Groups of patches; colours known by name alone belong to the spot colours and to all."""
    if device is not None:
        return groups(device, spots if any(spots) else None)
    nothing = groups(np.full((count, 4), 0.5), spots)
    named = {"all", "spots", "spot_tints"}
    return {name: mask if name in named else np.zeros(count, dtype=bool) for name, mask in nothing.items()}


def _incomplete(readings: ReadingSet, aim: Aim, known: Mask, tolerances: ToleranceSet) -> frozenset[str]:
    """Ids of criteria whose group lost a patch that the aim does not know."""
    if known.all():
        return frozenset()
    masks = _masks(readings.device, aim.spot_names(readings), len(readings))
    judged = Judged(tolerances, readings.device, np.zeros((len(readings), 3)), masks, False)
    return frozenset(
        c.id for c in tolerances.criteria if c.group != "all" and (judged.mask_of(c) & ~known).any()
    )


def _conditions(readings: ReadingSet, aim: Aim) -> list[str]:
    if not aim.condition or aim.condition == readings.condition:
        return []
    return [
        f"The print was read as {readings.condition}, the aim {aim.name} is {aim.condition}: on paper with "
        "optical brightener the two differ by several dE00. Read it alike before you trust the verdict."
    ]


def _repeats(readings: ReadingSet) -> list[str]:
    spread = unevenness([readings])
    if spread is None or spread <= REPEATS_DISAGREE:
        return []
    lab, device = readings.lab(), readings.values()
    _, group = np.unique(np.round(device, 4), axis=0, return_inverse=True)
    worst, name = 0.0, ""
    for g in np.unique(group):
        members = np.flatnonzero(group.reshape(-1) == g)
        if len(members) > 1:
            apart = float(np.linalg.norm(lab[members] - lab[members].mean(axis=0), axis=1).max())
            if apart > worst:
                worst, name = apart, ", ".join(readings.ids[i] for i in members[:4])
    return [
        f"Repeats of one patch disagree by up to {spread:.1f} dE00 from their mean ({name}): a scratch, a "
        "misread row or an uneven sheet. Look at the patch map before you trust the verdict."
    ]


def average_repeats(readings: ReadingSet) -> ReadingSet:
    """One patch for each set of device values and name: the mean of its repeats, of spectra or of XYZ."""
    if readings.device is None:
        return readings
    names = readings.names or ("",) * len(readings)
    labels = np.unique(np.array(names), return_inverse=True)[1].reshape(-1, 1)
    key = np.hstack([np.round(readings.device, 4), labels])
    _, first, group, count = np.unique(
        key, axis=0, return_index=True, return_inverse=True, return_counts=True
    )
    group = group.reshape(-1)
    order = np.argsort(first)
    bands = readings.spectra if readings.spectra is not None else readings.xyz()
    mean = np.stack([np.bincount(group, bands[:, k]) / count for k in range(bands.shape[1])], axis=1)[order]
    one = readings.select(first[order])
    if readings.spectra is not None:
        return replace(one, spectra=mean)
    return replace(one, measured_xyz=mean, measured_lab=None)
