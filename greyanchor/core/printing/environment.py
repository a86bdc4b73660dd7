"""PrintEnvironment: the exact set of choices a chart is printed under."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.film_screen import FilmScreen

DIRECTIONS = ("one way", "both ways")
HALFTONES = ("error diffusion", "blue noise")
#: what the colour management of a driver must be
OFF = "off"


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
    driver_media, driver_quality
        What the driver of a printer that takes R G B is set to; empty for other printers.
    driver_colour
        Its colour management, which must be `OFF`; empty for other printers.
    screen
        The screen of films, as `core.separation.halftone.screens.parse_screen` reads it; empty where prints
        are no films.
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
    driver_media: str = ""
    driver_quality: str = ""
    driver_colour: str = ""
    screen: str = ""

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
        if self.screen:
            FilmScreen.of(self.screen)
        if self.driver_colour not in ("", OFF):
            raise BadInput(
                f"the driver's colour management is {self.driver_colour}: a chart that goes through it says "
                "nothing of the printer; turn it off"
            )

    def as_dict(self) -> dict[str, str | int | float]:
        """Plain values by name, for JSON; settings of a driver only where there is one, a screen only of
        films.
        """
        return {k: v for k, v in asdict(self).items() if v != "" or not k.startswith(("driver_", "screen"))}

    def content_hash(self) -> str:
        """SHA-256 of the choices; two environments are the same when this is."""
        return hashlib.sha256(json.dumps(self.as_dict(), sort_keys=True).encode()).hexdigest()

    def label(self) -> str:
        """One line that names the environment on a sheet."""
        driver = ""
        if self.driver_colour:
            said = [("media", self.driver_media), ("quality", self.driver_quality)]
            driver = f" · driver: colour management {self.driver_colour}"
            driver += "".join(f", {what} {value}" for what, value in said if value)
        return (
            f"{self.printer} · {self.ink_set} · {self.media} · {self.resolution} dpi · {self.passes} "
            "passes · "
            f"{self.direction} · {self.halftone} · {self.heat:g} °C · vacuum {self.vacuum:g} %{driver}"
            + (f" · film, {FilmScreen.of(self.screen).words}" if self.screen else "")
        )
