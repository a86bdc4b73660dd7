"""PrintEnvironment: the exact set of choices a chart is printed under."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass

from greyanchor.core.errors import BadInput

DIRECTIONS = ("one way", "both ways")
HALFTONES = ("error diffusion", "blue noise")


@dataclass(frozen=True)
class PrintEnvironment:
    """Everything that changes what a device value looks like on the media.

    Attributes
    ----------
    printer, ink_set, media
        Names from the library.
    resolution
        Dots per inch along the head.
    passes
        How often the head crosses each line.
    direction, halftone
        One of `DIRECTIONS` and `HALFTONES`.
    heat
        Platen temperature in degrees Celsius.
    vacuum
        Vacuum in percent of full.
    """

    printer: str
    ink_set: str
    media: str
    resolution: int = 1200
    passes: int = 8
    direction: str = "one way"
    halftone: str = "blue noise"
    heat: float = 35.0
    vacuum: float = 50.0

    def __post_init__(self) -> None:
        limits = {"resolution": (150, 4800), "passes": (1, 32), "heat": (15, 90), "vacuum": (0, 100)}
        for name, (low, high) in limits.items():
            value = getattr(self, name)
            if not low <= value <= high:
                raise BadInput(f"{name} {value:g} lies outside {low}..{high}")
        if self.direction not in DIRECTIONS:
            raise BadInput(f"direction {self.direction!r} is not one of {', '.join(DIRECTIONS)}")
        if self.halftone not in HALFTONES:
            raise BadInput(f"halftone {self.halftone!r} is not one of {', '.join(HALFTONES)}")

    def as_dict(self) -> dict[str, str | int | float]:
        """Plain values by name, for JSON."""
        return asdict(self)

    def content_hash(self) -> str:
        """SHA-256 of the choices; two environments are the same when this is."""
        return hashlib.sha256(json.dumps(self.as_dict(), sort_keys=True).encode()).hexdigest()

    def label(self) -> str:
        """One line that names the environment on a sheet."""
        return (
            f"{self.printer} · {self.ink_set} · {self.media} · {self.resolution} dpi · {self.passes} "
            "passes · "
            f"{self.direction} · {self.halftone} · {self.heat:g} °C · vacuum {self.vacuum:g} %"
        )
