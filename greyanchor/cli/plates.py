"""The command `plates`: separations for film and screen printing."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greyanchor.cli.common import say
from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.separation.plates.making import PlateSet


@click.command()
@click.argument("art")
@click.option("-o", "--output", required=True, help="folder that the plates are written into")
@click.option(
    "--screen", required=True, help="am:lpi=60,angle=45,dot=round, blue-noise:smallest=2, hybrid:lpi=60"
)
@click.option("--resolution", type=float, required=True, help="dpi of the plates")
@click.option("--angles", default="", help="C=15,M=75,Y=0,K=45; those that do not beat when left out")
@click.option(
    "--screen-of",
    "own",
    multiple=True,
    metavar="INK=SCREEN",
    help="a plate with a screen of its own",
)
@click.option("--profile", "profile_file", help="ICC profile of the press, for what is not separated already")
@click.option("--negative", is_flag=True, help="ink where the art has none")
@click.option("--mirror", is_flag=True, help="mirrored: emulsion down")
@click.option("--page", type=int, default=1, show_default=True)
@click.option("--width", type=float, help="mm; the artwork's own size when left out")
@click.option("--fold", multiple=True, metavar="NAME", help="a spot colour that folds into the process inks")
@click.option(
    "--overprint", type=click.Choice(["file", "knockout", "black"]), default="file", show_default=True
)
@click.option(
    "--trap", type=float, default=0.0, show_default=True, help="points that lighter inks reach under"
)
@click.option("--choke", default="", metavar="INK=PT", help="points that an underbase draws back")
@click.option("--curves", "curves_file", help="curves of film or press by ink, CSV")
@click.option("--marks", is_flag=True, help="with targets, step wedge and names around the art")
@click.option("--json", "as_json", is_flag=True)
def plates(art: str, output: str, as_json: bool, **chosen: Any) -> None:
    """Artwork to one 1-bit plate an ink."""
    from dataclasses import replace

    from greyanchor.core.artwork.pages import is_pdf
    from greyanchor.core.artwork.pdf_inspection import spots_of_page
    from greyanchor.core.formats import icc
    from greyanchor.core.separation.halftone.screens import parse_screen
    from greyanchor.core.separation.plates.angles import parse_angles
    from greyanchor.core.separation.plates.making import PlateSettings, make_plates
    from greyanchor.core.separation.plates.screening import never_meeting, overlap_of, screens_of
    from greyanchor.core.separation.plates.separations import Art, open_separations
    from greyanchor.core.separation.plates.trapping import Trap
    from greyanchor.core.separation.printing import Shape

    resolution = chosen["resolution"]
    if not 10.0 <= resolution <= 9600.0:
        raise BadInput(f"a resolution of {resolution:g} dpi is not possible; 10 to 9600 are")
    screen, angles = parse_screen(chosen["screen"]), parse_angles(chosen["angles"])
    if screen.sizes > 1:
        raise BadInput("plates have one bit: leave drops out of the screen")
    path = Path(art)
    given = Art(path, Shape(chosen["page"], chosen["width"]), overprints=chosen["overprint"])
    if chosen["profile_file"]:
        icc.read(chosen["profile_file"])
        given = replace(given, profile=Path(chosen["profile_file"]).read_bytes())
    if chosen["fold"]:
        there = spots_of_page(path, chosen["page"]) if path.exists() and is_pdf(path) else []
        foreign = [n for n in chosen["fold"] if n not in there]
        if foreign:
            known = ", ".join(there) or "none"
            raise BadInput(f"the page has no spot colour {foreign[0]!r}; there are {known}", path.name)
        given = replace(given, spots=tuple(n for n in there if n not in chosen["fold"]))
    with open_separations(given, resolution) as found:
        together = overlap_of(given, found.inks)
        settings = PlateSettings(
            resolution,
            screens_of(found.inks, screen, angles, together, _screens(chosen["own"])),
            _curves(chosen["curves_file"], found.inks),
            trap=Trap(chosen["trap"], _points(chosen["choke"], found.inks)),
            negative=chosen["negative"],
            mirrored=chosen["mirror"],
            words=path.stem if chosen["marks"] else None,
            apart=never_meeting(found.inks, together),
        )
        made = make_plates(found, settings, output, {"art": path.name})
    say(as_json, made.facts(), _lines(made))


def _curves(path: str | None, inks: tuple[str, ...]) -> dict[str, Any]:
    """Curves by ink as tables of 16 bits; one curve alone is for every plate."""
    import numpy as np

    from greyanchor.core.calibration.curves import CurveSet

    if not path:
        return {}
    curves = CurveSet.read(path)
    tone = np.linspace(0.0, 1.0, 65536)

    def table(row: Any) -> Any:
        return np.round(np.interp(tone, np.linspace(0.0, 1.0, len(row)), row) * 65535.0).astype(np.uint16)

    if len(curves.channels) == 1:
        return dict.fromkeys(inks, table(curves.outputs[0]))
    foreign = [c for c in curves.channels if c not in inks]
    if foreign:
        raise BadInput(f"there is no plate of {foreign[0]}; there are {', '.join(inks)}", Path(path).name)
    return {c: table(row) for c, row in zip(curves.channels, curves.outputs)}


def _screens(texts: tuple[str, ...]) -> dict[str, Any]:
    """Screens of single plates from ``White=blue-noise:smallest=2``."""
    from greyanchor.core.separation.halftone.screens import parse_screen

    found = {}
    for text in texts:
        ink, equals, screen = text.partition("=")
        if not equals or not ink.strip() or not screen.strip():
            raise BadInput(f"a plate's own screen is written White=blue-noise; {text!r} is not understood")
        found[ink.strip()] = parse_screen(screen)
    return found


def _points(text: str, inks: tuple[str, ...]) -> dict[str, float]:
    from greyanchor.core.numbers import parse_number
    from greyanchor.core.separation.plates.angles import matched

    found: dict[str, float] = {}
    for part in filter(None, (p.strip() for p in text.split(","))):
        name, equals, value = (p.strip() for p in part.partition("="))
        if not equals or not name:
            raise BadInput(f"a choke is written White=0.5; {part!r} is not understood")
        found[name] = parse_number(value)
    return matched(found, inks)


def _lines(made: PlateSet) -> list[str]:
    lines = []
    for plate in made.plates:
        at = "" if plate.angle is None else f", {plate.frequency:.2f} lines at {plate.angle:.2f} degrees"
        lines.append(f"{plate.path.name}: {plate.ink}, {100 * plate.share:.1f} % ink{at}")
    if made.empty:
        lines.append(f"left out, as the page has nothing of them: {', '.join(made.empty)}")
    return [*lines, *(f"warning: {w}" for w in made.warnings), *(f"note: {n}" for n in made.notes)]
