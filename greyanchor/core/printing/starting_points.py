"""Where a shop begins: machines of the usual kinds, with a media each, as generic as they come.

Every value is a start that can be changed; none is of a product.
"""

from __future__ import annotations

from dataclasses import dataclass

from greyanchor.core.errors import BadInput

Range = tuple[float, float, float, float]

#: lowest, highest, step and usual value of each handling setting
_ROLL_FED: dict[str, Range] = {
    "vacuum": (0, 100, 5, 50),
    "roller_pressure": (10, 60, 5, 25),
    "head_height": (1.2, 5, 0.1, 1.8),
    "feed": (-1, 1, 0.01, 0),
    "alignment": (-200, 200, 5, 0),
    "pass_pause": (0, 3, 0.1, 0),
    "overprints": (1, 4, 1, 1),
    "cleaning": (0, 100, 1, 20),
    "wiping": (0, 40, 1, 10),
    "margin_side": (3, 60, 1, 5),
    "margin_top": (5, 100, 1, 20),
    "margin_end": (5, 100, 1, 20),
}
_HEATED = {"heat_before": (20, 60, 1, 30), "heat_on": (20, 60, 1, 36), "heat_after": (20, 90, 1, 45)}
_CURED = {"heat_on": (20, 60, 1, 36), "lamp_power": (20, 100, 1, 70)}


@dataclass(frozen=True)
class StartingPoint:
    """A kind of machine with its inks and a first media.

    Attributes
    ----------
    key, title, about
        What it is called and what it is for.
    channels, inks
        Process channels in printing order, and what the inks are.
    resolutions, passes, width
        Dots an inch, passes from few to many, and millimetres.
    driven_as
        How the machine is driven: ``channels``, or by its own driver.
    settings
        Its handling settings as (lowest, highest, step, usual).
    family, media_class
        Media family whose starting values the class takes, and what the class is called.
    weight, thickness, brightener, dry_minutes
        Of the first media: g/m², micrometres, how much optical brightener, minutes until it can be read.
    """

    key: str
    title: str
    about: str
    channels: tuple[str, ...]
    inks: str
    resolutions: tuple[int, ...]
    passes: tuple[int, ...]
    width: int
    driven_as: str
    settings: dict[str, Range]
    family: str
    media_class: str
    weight: int
    thickness: int
    brightener: str
    dry_minutes: int

    def abilities(self) -> dict[str, dict[str, float]]:
        """Its handling settings as a printer keeps them."""
        return {k: dict(zip(("low", "high", "step", "usual"), v)) for k, v in self.settings.items()}


_CMYK = tuple("CMYK")
STARTING_POINTS = {
    p.key: p
    for p in (
        StartingPoint(
            "aqueous",
            "Aqueous, four inks",
            "water-based pigment on coated paper: proofs, posters, photographs",
            _CMYK,
            "aqueous pigment",
            (600, 1200, 2400),
            (4, 6, 8, 12, 16),
            1118,
            "channels",
            {**_ROLL_FED, "heat_on": (20, 55, 1, 34)},
            "coated-paper",
            "coated paper",
            200,
            230,
            "faint",
            30,
        ),
        StartingPoint(
            "uv",
            "UV-cured, four inks",
            "ink cured by lamps, on film, boards and synthetic papers",
            _CMYK,
            "UV-cured",
            (600, 1200),
            (4, 6, 8, 12),
            1626,
            "channels",
            {**_ROLL_FED, **_CURED},
            "film",
            "film",
            180,
            160,
            "none",
            5,
        ),
        StartingPoint(
            "solvent",
            "Solvent, four inks",
            "solvent or mild solvent on banner and self-adhesive film, outdoors",
            _CMYK,
            "solvent",
            (720, 1440),
            (4, 6, 8, 12, 16),
            1600,
            "channels",
            {**_ROLL_FED, **_HEATED},
            "banner",
            "banner",
            440,
            460,
            "none",
            240,
        ),
        StartingPoint(
            "resin",
            "Resin, four inks",
            "water-based resin fixed by heat, on film, textile and wallpaper",
            _CMYK,
            "aqueous resin",
            (600, 1200),
            (6, 8, 10, 14),
            1626,
            "channels",
            {**_ROLL_FED, **_HEATED, "heat_after": (40, 110, 1, 90)},
            "film",
            "film",
            170,
            150,
            "none",
            15,
        ),
        StartingPoint(
            "rgb",
            "Driven by R G B",
            "an office or photo printer that separates by its own driver: profile, no ink limits",
            tuple("RGB"),
            "aqueous, separated by the printer's own driver",
            (1200, 2400),
            (8, 16),
            610,
            "R G B, by its own driver",
            {k: _ROLL_FED[k] for k in ("vacuum", "head_height", "feed", "margin_side")},
            "coated-paper",
            "coated paper",
            250,
            260,
            "moderate",
            30,
        ),
    )
}


def starting_point(key: str) -> StartingPoint:
    """The starting point called `key`; `BadInput` lists what there is."""
    if key not in STARTING_POINTS:
        raise BadInput(f"there is no starting point {key!r}; there are {', '.join(STARTING_POINTS)}")
    return STARTING_POINTS[key]
