"""Commands that prove: checks, and the grey balance that G7 asks for."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from greyanchor.cli.common import limits_of, read_measured, say, write
from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.measurement.readings import ReadingSet
    from greyanchor.core.verification.aims import Aim


@click.command()
@click.argument("readings_file", metavar="READINGS")
@click.option(
    "--aim",
    default="",
    help=".icc, CGATS text, CxF3, a CSV list of spot colours, generic-coated, or itself for uniformity; "
    "g7-grayscale needs none",
)
@click.option(
    "--tolerances", default="iso12647-7:2016", show_default=True, help="a shipped set, or a JSON file"
)
@click.option("--substrate-corrected", is_flag=True)
@click.option("--leave-out", is_flag=True, help="leave out patches that the aim does not hold")
@click.option("--json", "as_json", is_flag=True)
@click.pass_context
def check(
    ctx: click.Context,
    readings_file: str,
    aim: str,
    tolerances: str,
    substrate_corrected: bool,
    leave_out: bool,
    as_json: bool,
) -> None:
    """Hold a print to an aim under a tolerance set; exit status 1 when it fails."""
    from greyanchor.core.verification.check import check as run
    from greyanchor.core.verification.shipped import load

    readings = read_measured(readings_file)
    try:
        limits = load(tolerances)
        target = _aim(aim, readings, limits.id)
        result = run(readings, target, limits, substrate_corrected, leave_out)
    except BadInput as error:
        raise (error if error.source else error.at(readings_file)) from None
    lines = [f"{result.verdict.upper()}  {limits.title}, aim {target.name}, {len(result.ids)} patches"]
    for found in result.findings:
        value = "-" if found.value is None else f"{found.value:.2f}"
        limit = "" if found.criterion.limit is None else f"{found.criterion.limit:.1f}"
        near = ", near its limit" if found.near else ""
        lines.append(f"  {found.criterion.title:<42}{value:>8}{limit:>7}  {found.verdict}{near}")
    if result.grade:
        lines.append(f"  grade {result.grade} ({result.score:.0f} % of the limits used)")
    lines += [f"  note: {note}" for note in result.notes]
    say(as_json, result.as_dict(), lines)
    ctx.exit(0 if result.verdict == "pass" else 1)


@click.command()
@click.argument("spectrum_file", metavar="SPECTRUM")
@click.option(
    "--condition", default="P1", show_default=True, type=click.Choice(["P1", "P2"]), help="of ISO 3664"
)
@click.option("--json", "as_json", is_flag=True)
@click.pass_context
def light(ctx: click.Context, spectrum_file: str, condition: str, as_json: bool) -> None:
    """Judge a viewing light by its spectrum (nm and power); exit status 1 when it fails ISO 3664."""
    from greyanchor.core.colour.viewing import CONDITIONS, CRITERIA, judge
    from greyanchor.core.formats.light_file import read_spectrum

    held = CONDITIONS[condition]
    try:
        report = judge(read_spectrum(spectrum_file), held)
    except BadInput as error:
        raise (error if error.source else error.at(spectrum_file)) from None
    lines = [
        f"{report.verdict.upper()}  {held.title}, {held.source}",
        f"  {report.cct:.0f} K, {report.duv:+.4f} from the Planckian locus; "
        + ("illuminance not known" if report.lux is None else f"{report.lux:.0f} lx"),
        f"  Ra {report.ra:.1f}, R9 {report.r9:.1f}, Rf {report.rf:.1f}, Rg {report.rg:.1f}",
    ]
    for found in report.criteria:
        value = "-" if found.value is None else f"{found.value:.4g}"
        lines.append(f"  {CRITERIA[found.id]:<56}{value:>8}{found.limit:>8g}  {found.verdict}")
    say(as_json, report.as_dict(), lines)
    ctx.exit(0 if report.verdict == "pass" else 1)


def _aim(name: str, readings: ReadingSet, tolerances: str) -> Aim:
    from greyanchor.core.verification import aims

    if not name and tolerances == "g7-grayscale":
        return aims.grey_anchors(readings)
    if not name:
        raise BadInput(f"{tolerances} holds a print to an aim: name one with --aim")
    return aims.of_places(readings) if name == "itself" else aims.load(name)


def balance_greys(readings: ReadingSet, source: str, limits: str | None, output: str, as_json: bool) -> None:
    """Curves from a grey chart: what ``linearize --aim g7`` does."""
    from greyanchor.core.calibration.greybalance import balance

    try:
        made = balance(readings, limits_of(limits))
    except BadInput as error:
        raise (error if error.source else error.at(source)) from None
    write(output, made.curves.to_json() if output.endswith(".json") else made.curves.to_csv())
    facts = {}
    for when in ("before", "after"):
        scales = zip(("cmy_wdl", "cmy_wdch", "k_wdl"), made.weighted(when == "after"))
        facts[when] = {
            name: {"mean": round(float(v.mean()), 3), "max": round(float(v.max()), 3)} for name, v in scales
        }
    channels = {
        c: {
            "limit": round(100.0 * made.curves.limits[c], 2),
            **{when: facts[when]["k_wdl" if c == "K" else "cmy_wdl"] for when in facts},
        }
        for c in made.curves.channels
    }
    titles = {"cmy_wdl": "CMY scale, tone", "cmy_wdch": "CMY scale, balance", "k_wdl": "K scale, tone"}
    say(
        as_json,
        {"aim": "g7", "channels": channels, "scales": facts},
        [
            f"{title:<20} before: mean {facts['before'][name]['mean']:.2f}, largest "
            f"{facts['before'][name]['max']:.2f}; "
            f"predicted after: mean {facts['after'][name]['mean']:.2f}, largest "
            f"{facts['after'][name]['max']:.2f} (weighted)"
            for name, title in titles.items()
        ]
        + [
            (
                "This is a calibration. Print a second time through these curves and check that print to "
                "verify it."
            )
        ],
    )
