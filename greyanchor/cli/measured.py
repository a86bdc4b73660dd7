"""Commands about readings alone."""

from __future__ import annotations

import click

from greyanchor.cli.common import read_measured, say
from greyanchor.core.errors import BadInput


@click.command()
@click.argument("readings_file", metavar="READINGS")
@click.option("--prior", multiple=True, help="readings of earlier stages, such as raw ramps; may be repeated")
@click.option("--json", "as_json", is_flag=True)
@click.pass_context
def suspect(ctx: click.Context, readings_file: str, prior: tuple[str, ...], as_json: bool) -> None:
    """Name the rows of one pass that were misread; exit status 1 where a row is suspect."""
    from greyanchor.core.characterization.self_check import suspects
    from greyanchor.core.verification.generic import generic_lab

    readings = read_measured(readings_file)
    earlier = [read_measured(path) for path in prior]
    try:
        found = suspects(readings, earlier, generic_lab(readings.inks(), readings.channels))
    except BadInput as error:
        raise (error if error.source else error.at(readings_file)) from None
    rows = [
        {
            "row": s.row,
            "sheet": s.sheet,
            "kind": s.verdict.kind,
            "confidence": round(s.verdict.confidence, 3),
        }
        for s in found
    ]
    lines = [f"row {s.row} of sheet {s.sheet}: {s.verdict.reason}" for s in found]
    say(as_json, {"rows": rows}, lines or ["no row is suspect"])
    ctx.exit(1 if found else 0)
