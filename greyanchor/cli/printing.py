"""The commands of the print room: `prepare`, `halftone` and `place`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greyanchor.cli.common import say, write
from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.separation.from_pack import PackedMode
    from greyanchor.core.separation.prepare import Prepared

_INTENTS = ("perceptual", "relative", "saturation", "absolute")


@click.command()
@click.argument("art")
@click.option("-o", "--output", required=True, help="the print file, TIFF")
@click.option("--mode", "pack", help="a pack that holds the print mode")
@click.option("--mode-name", help="which print mode of the pack, where it holds several")
@click.option("--profile", "profile_file", help="an ICC profile in place of a print mode")
@click.option("--curves", "curves_file", help="curves that follow the profile, CSV or JSON")
@click.option("--contone", is_flag=True, help="amounts of all inks before halftoning, in one page")
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", show_default=True, help="with --contone")
@click.option("--page", type=int, default=1, show_default=True)
@click.option("--width", type=float, help="mm; the artwork's own size when left out")
@click.option("--resolution", type=float, help="dpi; the print mode's when left out")
@click.option(
    "--halftone", "screen", help="blue-noise, diffusion, am:lpi=60,angle=45,dot=round, hybrid:lpi=60"
)
@click.option("--intent", type=click.Choice(_INTENTS), default="relative", show_default=True)
@click.option("--no-black-point", is_flag=True, help="without black point compensation")
@click.option("--keep-black", is_flag=True, help="black ink alone stays black ink alone")
@click.option("--keep-pure", is_flag=True, help="one of C, M, Y alone stays that ink alone")
@click.option("--source", help="ICC profile for artwork that carries none")
@click.option("--press", help="ICC profile of a press that it is printed as on")
@click.option("--press-paper", is_flag=True, help="with the paper of that press")
@click.option("--report", "report_file", help="the figures as JSON")
@click.option("--json", "as_json", is_flag=True)
def prepare(art: str, output: str, report_file: str | None, as_json: bool, **chosen: Any) -> None:
    """Artwork to what each ink prints."""
    from greyanchor.core.separation.printing import print_to_file

    order, ticket = _order(chosen)
    done = print_to_file(art, order, output, ticket)
    if report_file:
        write(report_file, json.dumps(done.facts()))
    say(as_json, done.facts(), _lines(done))


def _order(chosen: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
    from greyanchor.core.formats import icc
    from greyanchor.core.separation.halftone.screens import parse_screen
    from greyanchor.core.separation.link import LinkSettings
    from greyanchor.core.separation.printing import Order, Shape, screen_of

    mode = _mode(chosen)
    resolution = chosen["resolution"]
    if resolution is not None and not 10.0 <= resolution <= 9600.0:
        raise BadInput(f"a resolution of {resolution:g} dpi cannot be printed; 10 to 9600 can")
    screen = None
    if not chosen["contone"]:
        halftone = mode.environment.halftone if mode.name else "blue noise"
        screen = parse_screen(chosen["screen"]) if chosen["screen"] else screen_of(halftone)
        resolution = resolution or (float(mode.environment.resolution) if mode.name else None)
    elif chosen["screen"]:
        raise BadInput("--contone is before halftoning: leave --halftone out")
    press = icc.read(chosen["press"]) if chosen["press"] else None
    order = Order(
        mode=mode.inks,
        shape=Shape(chosen["page"], chosen["width"]),
        settings=LinkSettings(
            chosen["intent"],
            not chosen["no_black_point"],
            chosen["keep_black"],
            chosen["keep_pure"],
            press,
            chosen["press_paper"],
        ),
        source=icc.read(chosen["source"]) if chosen["source"] else None,
        resolution=resolution,
        screen=screen,
        bits=int(chosen["bits"]),
    )
    return order, {"mode": mode.name, "edition": mode.edition} if mode.name else {}


def _mode(chosen: dict[str, Any]) -> PackedMode:
    """The mode of a pack, or one made of a profile and curves, which has no name."""
    from greyanchor.core.calibration.curves import CurveSet
    from greyanchor.core.formats import icc
    from greyanchor.core.printing.environment import PrintEnvironment
    from greyanchor.core.separation.from_pack import PackedMode, mode_inks, read_mode

    if bool(chosen["pack"]) == bool(chosen["profile_file"]):
        raise BadInput("name what it is printed with: --mode PACK.zip or --profile P.icc")
    if chosen["pack"]:
        if chosen["curves_file"]:
            raise BadInput("a print mode has its own curves: leave --curves out")
        return read_mode(chosen["pack"], chosen["mode_name"] or "")
    profile = icc.read(chosen["profile_file"])
    curves = CurveSet.read(chosen["curves_file"]) if chosen["curves_file"] else None
    inks = mode_inks(profile, curves, [], {}, None)
    return PackedMode("", "", PrintEnvironment("", "", ""), inks)


def _lines(done: Prepared) -> list[str]:
    found = done.coming_out
    ink = ", ".join(f"{c} {v:.2f}" for c, v in done.ink_ml.items())
    return [
        f"{done.width} x {done.height} at {done.resolution:g} dpi, {' '.join(done.inks)}; ink in ml: {ink}",
        f"{100 * found.within_1:.0f} % of the area within 1 dE00, {100 * found.within_3:.0f} % within 3, "
        f"{100 * found.beyond_3:.0f} % beyond",
        *(f"note: {note}" for note in done.notes),
    ]


@click.command()
@click.argument("grey")
@click.option("-o", "--output", required=True, help="one plane, TIFF")
@click.option(
    "--screen", required=True, help="blue-noise, diffusion, am:lpi=60,angle=45,dot=round, hybrid:lpi=60"
)
@click.option("--resolution", type=float, required=True, help="dpi")
def halftone(grey: str, output: str, screen: str, resolution: float) -> None:
    """One grey picture to dots, pixel for pixel; black is ink."""
    from greyanchor.core.artwork.pictures import open_picture
    from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
    from greyanchor.core.separation.halftone.screens import Screen, parse_screen

    if not 10.0 <= resolution <= 20000.0:
        raise BadInput(f"a resolution of {resolution:g} dpi is not possible; 10 to 20000 are")
    spec = parse_screen(screen)
    picture = open_picture(grey)
    if picture.kind != "grey":
        raise BadInput(f"it is {picture.kind.upper()}; one plane is made of a grey picture", Path(grey).name)
    made = Screen(spec, resolution, picture.width)
    layout = PlaneLayout(picture.width, picture.height, ("Black",), spec.bits, resolution)
    rows = picture.band_rows
    writer = PlaneWriter(output, layout, rows, {"screen": str(spec)})
    try:
        for top, band in picture.bands(rows):
            full = 65535 if picture.bits == 16 else 255
            tones = (full - band[:, :, 0].astype("uint32")) * (65535 // full)
            writer.write([made.packed(tones.astype("uint16"), top)])
        writer.close()
    except BaseException:
        writer.abandon()
        raise


@click.command()
@click.argument("items")
@click.option("-o", "--output", required=True, help="where each piece lies, JSON")
@click.option(
    "--way",
    type=click.Choice(["save", "rows", "come"]),
    default="save",
    show_default=True,
    help="to save media, in rows, or as they come",
)
@click.option("--seconds", type=float, default=2.0, show_default=True, help="to search, with save")
@click.option("--json", "as_json", is_flag=True)
def place(items: str, output: str, way: str, seconds: float, as_json: bool) -> None:
    """Pieces onto a strip of media, mm."""
    from greyanchor.core.layout.nesting import save_media
    from greyanchor.core.layout.pieces import pieces_from
    from greyanchor.core.layout.rows import as_they_come, in_rows

    try:
        given = json.loads(Path(items).read_text(encoding="utf-8"))
        width, gap, pieces = pieces_from(given)
        if way == "save":
            found = save_media(pieces, width, gap, min(max(seconds, 0.05), 60.0))
        else:
            found = (in_rows if way == "rows" else as_they_come)(pieces, width, gap)
    except (json.JSONDecodeError, UnicodeDecodeError, TypeError) as error:
        raise BadInput(f"it is no JSON as expected ({error})", Path(items).name) from error
    except BadInput as error:
        raise error.at(Path(items).name) from None
    write(output, json.dumps(found.as_dict()))
    share = 100.0 * found.share_used
    line = f"{len(found.placed)} pieces on {width:g} x {found.length:.1f} mm, {share:.1f} % used"
    say(as_json, found.as_dict(), [line])
