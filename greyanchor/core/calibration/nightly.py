"""When a machine is brought back to its baseline without anybody there, and when a person must look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from greyanchor.core.errors import BadInput

LEAVE, RESTORE, PERSON = "leave", "restore", "person"


@dataclass(frozen=True)
class DriftLimits:
    """What is tolerated of a mode's drift: its mean from the baseline, dE00 (of films percent of the
    dots), and the share of that, 0..1, past which it is restored.
    """

    tolerance: float = 1.5
    share: float = 0.5

    def __post_init__(self) -> None:
        if not 0.3 <= self.tolerance <= 10.0:
            raise BadInput(f"a tolerance of {self.tolerance:g} lies outside 0.3..10")
        if not 0.1 <= self.share <= 1.0:
            raise BadInput(f"{100 * self.share:.0f} % of the tolerance lies outside 10..100 %")

    @property
    def restores_from(self) -> float:
        """Mean drift past which the mode is restored."""
        return self.tolerance * self.share


@dataclass(frozen=True)
class Decision:
    """What to do, ``leave``, ``restore`` or ``person``, and why in words with its figure."""

    act: str
    why: str


def decide(
    drift: float, limits: DriftLimits, lost: Sequence[str], restored_short: bool, unit: str = "dE00"
) -> Decision:
    """What a night does about a mean `drift`.

    `lost` says what curves cannot bring back, in words; `restored_short` whether the last restore was one
    that could not bring everything back either: then nothing is done before a person has looked, as
    curves would only hide what the machine has lost.
    """
    if drift < limits.restores_from:
        share = f"{100 * limits.share:.0f} % of {limits.tolerance:g}"
        return Decision(
            LEAVE, f"it drifted {drift:.2f} {unit} mean, below {limits.restores_from:.2f} ({share})"
        )
    if lost and restored_short:
        return Decision(
            PERSON,
            f"it drifted {drift:.2f} {unit} mean, and curves fell short once already: {'; '.join(lost)}",
        )
    return Decision(
        RESTORE,
        f"it drifted {drift:.2f} {unit} mean, more than {limits.restores_from:.2f}: curves bring it back",
    )
