"""The screen that films of an environment are printed through, as far as it changes how dots come out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from greyanchor.core.errors import BadInput
from greyanchor.core.numbers import parse_number

CLUSTERED = ("am", "hybrid")
KINDS = (*CLUSTERED, "blue-noise")
DOTS = ("round", "ellipse", "square", "line")
#: lines an inch that films of screen and flexo printing have
LEAST_LINES, MOST_LINES = 10.0, 200.0
#: what a chart of a film says of the ink within its dots, percent by ink: without it each patch is a solid
SOLID = "FILM_SOLID"


@dataclass(frozen=True)
class FilmScreen:
    """What of a screen is frozen with an environment.

    Attributes
    ----------
    kind
        One of `KINDS`.
    lines
        Lines an inch of a clustered screen.
    dot
        Shape of its dots.
    smallest
        Side of the smallest dot of blue noise, in places.
    """

    kind: str = "am"
    lines: float = 60.0
    dot: str = "round"
    smallest: int = 2

    def __post_init__(self) -> None:
        if self.kind not in KINDS or self.dot not in DOTS:
            raise BadInput(f"films have no screen {self.kind} with {self.dot} dots")
        if not LEAST_LINES <= self.lines <= MOST_LINES:
            raise BadInput(f"{self.lines:g} lines an inch: films have {LEAST_LINES:g} to {MOST_LINES:g}")
        if not 1 <= self.smallest <= 6:
            raise BadInput(f"a smallest dot of {self.smallest} places: 1 to 6 are possible")

    @classmethod
    def of(cls, text: str) -> FilmScreen:
        """From text such as ``am:lpi=60,dot=round``; what else it says, such as an angle, is passed over."""
        kind, _, rest = text.partition(":")
        facts = dict(part.split("=", 1) for part in rest.split(",") if "=" in part)
        if kind == "blue-noise":
            return cls(kind, smallest=int(parse_number(facts.get("smallest", "1"))))
        return cls(kind, parse_number(facts.get("lpi", "60")), facts.get("dot", "round"))

    def __str__(self) -> str:
        if self.kind == "blue-noise":
            return f"blue-noise:smallest={self.smallest}"
        return f"{self.kind}:lpi={self.lines:g},dot={self.dot}"

    @property
    def shape(self) -> str:
        """The shape of its dots; its kind where they have none."""
        return self.kind if self.kind == "blue-noise" else self.dot

    @property
    def words(self) -> str:
        """For people."""
        if self.kind == "blue-noise":
            return f"blue noise, smallest dot {self.smallest} x {self.smallest}"
        return f"{self.lines:g} lines an inch, {self.dot}{', hybrid' if self.kind == 'hybrid' else ''}"


def solid_text(solid: Mapping[str, float]) -> str:
    """Ink within dots, percent by ink, as a chart says it."""
    return " ".join(f"{ink}={value:.3f}" for ink, value in solid.items())


def parse_solid(text: str) -> dict[str, float]:
    """The same read; fractions."""
    parts = [p.partition("=") for p in text.split()]
    return {name: float(value) / 100.0 for name, _, value in parts}
