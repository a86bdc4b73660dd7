"""A check: one print against one aim under one tolerance set."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.core.colorimetry import Array, lab_difference
from greyanchor.core.errors import BadInput
from greyanchor.core.readings import ReadingSet
from greyanchor.core.verification.aims import Aim, substrate_corrected
from greyanchor.core.verification.groups import groups
from greyanchor.core.verification.tolerances import STATISTICS, Criterion, ToleranceSet

WORST = 10


@dataclass(frozen=True)
class Finding:
    """One criterion's outcome; `value` is None and the verdict ``not tested`` when no patch belongs to it."""

    criterion: Criterion
    value: float | None
    count: int

    @property
    def verdict(self) -> str:
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
        Patches with aim and measured Lab (n, 3).
    differences
        dE00 of each patch (n,), or dE*ab where the set is judged in it.
    measure
        ``de00`` or ``de76``.
    corrected
        Whether the aim was carried onto the shop's paper.
    """

    tolerances: ToleranceSet
    findings: tuple[Finding, ...]
    ids: tuple[str, ...]
    device: Array
    aim: Array
    measured: Array
    differences: Array
    measure: str
    corrected: bool

    @property
    def verdict(self) -> str:
        """``pass`` when nothing failed and something was tested."""
        limited = [f.verdict for f in self.findings if f.criterion.limit is not None]
        return "pass" if "fail" not in limited and "pass" in limited else "fail"

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


def check(readings: ReadingSet, aim: Aim, tolerances: ToleranceSet, corrected: bool = False) -> CheckResult:
    """Hold `readings` of a CMYK strip to `aim` under `tolerances`.

    With `corrected` the aim is carried onto the measured paper first; that needs an unprinted patch.
    Raises `BadInput` when aim and readings do not belong together.
    """
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values")
    device, measured = readings.values(), readings.lab()
    if readings.channels != tuple("CMYK"):
        raise BadInput(
            f"checks are defined for CMYK readings, not for {'+'.join(readings.channels) or 'no channels'}"
        )
    masks = groups(device)
    target = aim.lab_for(readings)
    if corrected:
        paper = masks["substrate"]
        if not paper.any():
            raise BadInput("a substrate-corrected check needs an unprinted patch, and the readings have none")
        target = substrate_corrected(target, paper, target[paper].mean(axis=0), measured[paper].mean(axis=0))
    difference = lab_difference(target, measured)
    values = {
        "de00": difference.de00,
        "de76": difference.de76,
        "dl": np.abs(difference.dl),
        "dc": np.abs(difference.dc),
        "dh": np.abs(difference.dh),
        "dch": difference.dch,
    }
    findings = []
    for criterion in tolerances.criteria:
        mask = masks.get(criterion.group, np.zeros(len(device), dtype=bool))
        chosen = values[criterion.measure][mask]
        value = STATISTICS[criterion.statistic](chosen) if len(chosen) else None
        findings.append(Finding(criterion, value, len(chosen)))
    main = [c.measure for c in tolerances.criteria if c.group == "all" and c.measure in ("de00", "de76")]
    measure = main[0] if main else "de00"
    return CheckResult(
        tolerances,
        tuple(findings),
        readings.ids,
        device,
        target,
        measured,
        values[measure],
        measure,
        corrected,
    )
