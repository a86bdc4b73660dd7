"""What several print modes can all print: common white, black and gamut, so that they print a picture alike.

Each member gets a profile that renders into the common gamut instead of its own: the same colour is asked
of every machine, and each meets it with its own inks.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from greyanchor.core.characterization.model import FitReport, ForwardModel
from greyanchor.core.colour import jzazbz, rgb_spaces
from greyanchor.core.colour.colorimetry import Array, delta_e_2000, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import icc
from greyanchor.core.measurement.readings import ReadingSet, as_inks
from greyanchor.core.measurement.sequences import sobol
from greyanchor.core.parallel import one_thread
from greyanchor.core.profiling import sources
from greyanchor.core.profiling.build import darkest_neutral, media_white, model_lab
from greyanchor.core.profiling.compression import PERCEPTUAL, SATURATION, compression_of
from greyanchor.core.profiling.gamut import gamut_from_lab
from greyanchor.core.profiling.inversion import Inverter
from greyanchor.core.profiling.rendering import CENTRE_L, Rendering
from greyanchor.core.profiling.separation import Separation
from greyanchor.core.profiling.shell import Shell, directions, shell_of, surface_inks

#: a white is met by a member when it comes within this (weighted Lab), and how far a common white may lie
#: below the darkest paper, L*
_MET, _DOWN = 0.35, 6.0
#: a member that keeps less of its gamut than this (share) costs the others more than it brings
LEAST_KEPT = 0.5
_PICTURE = 9


@dataclass(frozen=True)
class Member:
    """One print mode as its model knows it."""

    name: str
    model: ForwardModel
    separation: Separation


@dataclass(frozen=True)
class CommonGround:
    """What all members print.

    Attributes
    ----------
    rendering
        How every member's profile renders: into the common gamut, under the common white.
    tinted
        Whether papers are tinted to the common white; else each member leaves its own paper bare, and
        colours are alike beside it.
    white
        Lab (3,) of the common white.
    darkest
        L* of the common black, absolute.
    papers
        Lab (3,) of each member's paper.
    volumes
        Gamut volume of each member alone, and `volume` of what they have in common, cubic Lab.
    """

    rendering: Rendering
    tinted: bool
    white: Array
    darkest: float
    papers: tuple[Array, ...]
    volumes: tuple[float, ...]
    volume: float

    def rendering_of(self, member: int) -> Rendering:
        """How the profile of a member, counted from 0, renders."""
        if self.tinted:
            return self.rendering
        return replace(self.rendering, white=lab_to_xyz(self.papers[member][None])[0] / 100.0)

    def kept(self) -> list[float]:
        """Share of its own gamut that each member keeps."""
        return [min(1.0, self.volume / v) if v > 0 else 0.0 for v in self.volumes]

    def tints(self) -> list[float]:
        """How far (dE00) each member's paper lies from the common white: what it lays down as a tint."""
        return [float(delta_e_2000(p[None], self.white[None])[0]) for p in self.papers]


@one_thread
def common_ground(
    members: Sequence[Member],
    tinted: bool = True,
    version: int = 4,
    source: str | icc.IccProfile = rgb_spaces.USUAL,
) -> CommonGround:
    """The best aim that all members reach.

    White is the lightest that each of them meets at the mean hue of their papers; black the darkest
    neutral that all print; the gamut is what lies inside every member's, seen from the middle of the
    neutral axis. Not `tinted`, every paper is its own white. `source` is what perceptual and saturation
    make room for.

    Raises `BadInput`, with the name of the member, for fewer than two, for printers of greys alone, and for a
    paper that the others cannot come down to.
    """
    if len(members) < 2:
        raise BadInput("a family has two members or more")
    for m in members:
        if len(m.model.channels) < 3:
            raise BadInput("it prints greys alone, which no picture in colour can be matched with", m.name)
    inverters = [_inverter(m) for m in members]
    papers = [xyz_to_lab(100.0 * media_white(m.model)[None])[0] for m in members]
    white_lab = _common_white(members, inverters, papers) if tinted else np.mean(papers, axis=0)
    black = icc.perceptual_black(version)
    whites = [lab_to_xyz((white_lab if tinted else p)[None])[0] / 100.0 for p in papers]
    bares = [Rendering(w, 0.0, black) for w in whites]
    darkest = max(darkest_neutral(i, b) for i, b in zip(inverters, bares))
    ends = Rendering(lab_to_xyz(white_lab[None])[0] / 100.0, darkest, black, tints=tinted)
    axis = jzazbz.from_lab(np.array([[darkest, 0.0, 0.0], [100.0, 0.0, 0.0], [CENTRE_L, 0.0, 0.0]]))[:, 0]
    low, high, centre = (float(v) for v in axis)
    middle = np.array([centre, 0.0, 0.0])
    surfaces = [model_lab(i, _surface(i)) for i in inverters]
    shells = [
        shell_of(jzazbz.from_lab(b.relative(lab)), middle, (low, high)) for b, lab in zip(bares, surfaces)
    ]
    shell = Shell(middle, np.min([s.radius for s in shells], axis=0))
    points = ends.lay_ends(sources.source_points(source))
    perceptual, saturation = (
        compression_of(knee, shell, points, (low, high)) for knee in (PERCEPTUAL, SATURATION)
    )
    return CommonGround(
        replace(ends, printer=shell, perceptual=perceptual, saturation=saturation),
        tinted,
        white_lab,
        float(ends.absolute(np.array([[darkest, 0.0, 0.0]]))[0, 0]),
        tuple(papers),
        tuple(gamut_from_lab(lab).volume for lab in surfaces),
        gamut_from_lab(_shell_points(shell, ends)).volume,
    )


def _inverter(member: Member) -> Inverter:
    channels = len(member.model.channels)
    total = min(member.separation.total_ink, float(channels))
    return Inverter(member.model, replace(member.separation, total_ink=total))


def _surface(inverter: Inverter) -> Array:
    inks = surface_inks(inverter.channels, inverter.total, inverter.tops, inverter.black)
    return inverter.held(inks)


def _common_white(members: Sequence[Member], inverters: Sequence[Inverter], papers: Sequence[Array]) -> Array:
    """The lightest white of the papers' mean hue that every member meets."""
    start = min(float(p[0]) for p in papers)
    colour = np.mean([p[1:] for p in papers], axis=0)
    for lightness in np.arange(start, start - _DOWN - 1e-9, -0.1):
        white = np.array([lightness, *colour])
        missed = [float(i.solve(white[None]).error[0]) for i in inverters]
        if max(missed) < _MET:
            return white
    worst = int(np.argmax(missed))
    paper = papers[worst]
    raise BadInput(
        f"its paper (L* {paper[0]:.1f} a* {paper[1]:.1f} b* {paper[2]:.1f}) cannot meet a white that the "
        f"others have: the nearest is {missed[worst]:.1f} away. Leave it out, or leave each paper bare",
        members[worst].name,
    )


def _shell_points(shell: Shell, ends: Rendering) -> Array:
    """Absolute Lab (n, 3) of the surface of a shell."""
    away = directions().reshape(-1, 3) * shell.radius.reshape(-1, 1)
    return ends.absolute(jzazbz.to_lab(shell.centre + away))


# --- how far apart they are ------------------------------------------------------------------


def picture_colours(count: int = 500) -> Array:
    """sRGB (`count`, 3), 0..1: colours as pictures have them, evenly spread, greys among them."""
    rgb = sobol(3, _PICTURE + 1, 3)[: count - count // 10]
    greys = np.repeat(np.linspace(0.0, 1.0, count // 10)[:, None], 3, axis=1)
    return np.vstack([rgb, greys])


def printed(model: ForwardModel, profile: icc.IccProfile, rgb: Array, intent: str = "perceptual") -> Array:
    """Absolute Lab (n, 3) that pictures (n, 3), sRGB, print as through a profile, by the member's model."""
    device = profile.lab_to_device(rgb_spaces.rgb_to_lab(rgb), intent)
    return model.lab(as_inks(device, profile.inks))


def apart(one: Array, other: Array) -> FitReport:
    """dE00 between the same colours (n, 3) of two prints."""
    return FitReport.of(delta_e_2000(one, other))


def aim_readings(ground: CommonGround, chart: ReadingSet, asked: Array) -> ReadingSet:
    """What every member prints for the C M Y K values of a `chart`: the media-relative colours `asked` (n, 3)
    of some printing condition, brought into the common gamut, absolute.
    """
    inside = ground.rendering.into_printer(asked, ground.rendering.perceptual)
    lab = ground.rendering.absolute(inside)
    return replace(chart, spectra=None, measured_xyz=None, measured_lab=lab)
