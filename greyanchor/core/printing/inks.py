"""What the inks of a printer are for, and which sets of them a separation can serve."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from greyanchor.core.errors import BadInput

PROCESS, LIGHT, MEDIUM = "process", "light", "medium"
SECOND_BLACK, WHITE, VARNISH, SPOT = "second black", "white", "varnish", "spot"
FILM, OPACITY = "film", "opacity"
#: what an ink is for, in words
ROLES = {
    PROCESS: "process ink",
    LIGHT: "light ink",
    MEDIUM: "medium ink",
    SECOND_BLACK: "second black",
    WHITE: "white",
    VARNISH: "varnish",
    SPOT: "spot ink",
    FILM: "ink of films",
    OPACITY: "printed with it for opacity",
}
#: roles of inks that no separation uses: each is a plane of its own
PLANES = (WHITE, VARNISH, SPOT)
UNDER, OVER = "under", "over"
#: the most inks that a separation uses
MOST = 8
_ADDITIVE = ("R", "G", "B")


@dataclass(frozen=True)
class Ink:
    """One ink as a printer runs it.

    Attributes
    ----------
    channel
        Its name, such as ``C``, ``LC`` or ``W``.
    role
        One of `ROLES`.
    of
        The channel that a light, medium or second ink shares the work with; empty for others.
    place
        ``under`` or ``over`` the colours, for white, varnish and spot inks.
    drop_pl
        Nominal volume of a drop in picolitres; None where it is not known.
    density
        Nominal density of the solid over paper; None where it is not known.
    spectrum
        Reflectance factors (36) of the solid, 380 to 730 nm; empty where it was never read.
    """

    channel: str
    role: str = PROCESS
    of: str = ""
    place: str = ""
    drop_pl: float | None = None
    density: float | None = None
    spectrum: tuple[float, ...] = ()

    @property
    def words(self) -> str:
        """Role, with parent or place where it has one."""
        more = f" of {self.of}" if self.of else f", {self.place} the colours" if self.place else ""
        return ROLES[self.role] + more


def inks_of(
    channels: Sequence[str], light: Mapping[str, str], facts: Mapping[str, Mapping[str, Any]]
) -> tuple[Ink, ...]:
    """Every ink of a set in printing order: process inks, those that share with them, planes of their own.

    `light` names inks and whom they share with; `facts` by channel may hold role, place, drop_pl, density and
    spectrum. An ink of `facts` that is no other is a plane.
    """
    out = [_ink(c, PROCESS, "", facts) for c in channels]
    for channel, parent in light.items():
        usual = MEDIUM if channel in light.values() else LIGHT
        out.append(_ink(channel, usual, parent, facts))
    known = {i.channel for i in out}
    return (*out, *(_ink(c, SPOT, "", facts) for c in facts if c not in known))


def _ink(channel: str, usual: str, of: str, facts: Mapping[str, Mapping[str, Any]]) -> Ink:
    said = facts.get(channel, {})
    role = str(said.get("role") or usual)
    place = str(said.get("place") or (UNDER if role == WHITE else OVER)) if role in PLANES else ""
    spectrum = tuple(float(v) for v in said.get("spectrum") or ())
    return Ink(channel, role, of, place, said.get("drop_pl"), said.get("density"), spectrum)


def separates(channels: Sequence[str]) -> str:
    """Why no separation can be made for these process inks; empty where one can.

    Served are R G B of a printer that parts them itself, and 1 to 8 inks, of which more than four need C, M,
    Y and K among them.

    >>> separates("CMYKOGV"), separates("RGB"), separates("CMYOG")
    ('', '', 'more than four inks need C, M, Y and K among them, and K is missing')
    """
    names = list(channels)
    if tuple(names) == _ADDITIVE:
        return ""
    if not 1 <= len(names) <= MOST:
        return f"a separation has 1 to {MOST} inks, not {len(names)}"
    if len(set(names)) != len(names):
        return f"{next(c for c in names if names.count(c) > 1)} is there twice"
    missing = [c for c in "CMYK" if c not in names]
    if len(names) > 4 and missing:
        are = "is" if len(missing) == 1 else "are"
        return f"more than four inks need C, M, Y and K among them, and {' '.join(missing)} {are} missing"
    if len(names) > 4 and names[:4] != list("CMYK"):
        return "C, M, Y and K come first where there are further inks"
    return ""


def check_inks(
    channels: Sequence[str], light: Mapping[str, str], facts: Mapping[str, Mapping[str, Any]]
) -> None:
    """Raise `BadInput`, naming the ink, for a set that no build can serve: too many inks, light inks without
    a parent, more than three weights of one ink, roles that do not exist.
    """
    wrong = separates(channels)
    if wrong:
        raise BadInput(wrong)
    films = [c for c in channels if facts.get(c, {}).get("role") == FILM]
    if films and len(channels) > 1:
        raise BadInput(
            f"{films[0]} prints films, and a film has one channel: name other inks as printed with it for "
            "opacity"
        )
    for channel, parent in light.items():
        if parent not in channels and parent not in light:
            raise BadInput(f"{channel} belongs to {parent}, which is not among the inks {' '.join(channels)}")
        if channel in channels:
            raise BadInput(f"{channel} is a process ink and cannot be a light ink as well")
        if tuple(channels) == _ADDITIVE:
            raise BadInput(f"a printer that takes R G B shares {parent} with {channel} itself")
        above = light.get(parent)
        if above is not None and (above in light or above == channel):
            raise BadInput(f"{channel} is a fourth weight of {above}; three can be shared")
    for parent in {*channels, *light}:
        sharing = [c for c, p in light.items() if p == parent]
        roles = [facts.get(c, {}).get("role") for c in sharing]
        if len(sharing) > 1 and SECOND_BLACK not in roles and set(roles) != {OPACITY}:
            raise BadInput(
                f"{' and '.join(sharing)} both belong to {parent}: let the lighter belong to the other"
            )
    check_roles(channels, light, facts)


def check_roles(
    channels: Sequence[str], light: Mapping[str, str], facts: Mapping[str, Mapping[str, Any]]
) -> None:
    """Raise `BadInput`, naming the ink, where what is known of an ink makes no sense."""
    for ink in inks_of(channels, light, facts):
        _check_ink(ink)


def _check_ink(ink: Ink) -> None:
    if ink.role not in ROLES:
        raise BadInput(f"{ink.channel} cannot be a {ink.role!r}; roles are {', '.join(ROLES)}")
    if ink.of and ink.role not in (LIGHT, MEDIUM, SECOND_BLACK, OPACITY):
        raise BadInput(f"{ink.channel} shares with {ink.of}, so it is a light or medium ink or second black")
    if not ink.of and ink.role == OPACITY:
        raise BadInput(f"{ink.channel} is printed with another ink for opacity: say with which")
    if ink.place not in ("", UNDER, OVER):
        raise BadInput(f"{ink.channel} prints under or over the colours, not {ink.place!r}")
    if ink.spectrum and len(ink.spectrum) != 36:
        raise BadInput(
            f"the spectrum of {ink.channel} has {len(ink.spectrum)} values; 380 to 730 nm are 36 of them"
        )
    for word, value, low, high in (
        ("drop volume", ink.drop_pl, 0.5, 200.0),
        ("density", ink.density, 0.01, 5.0),
    ):
        if value is not None and not low <= float(value) <= high:
            raise BadInput(f"the {word} of {ink.channel}, {value:g}, lies outside {low:g}..{high:g}")
