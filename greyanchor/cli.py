"""The `greyanchor` command: the core on files, and the application.

Exit status: 0 done or passed, 1 a check failed, 2 unusable input or options.
The heavy parts are imported inside each command, so that every one of them starts quickly.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.illuminants import Light
    from greyanchor.core.profiling.build import ProfileResult, ProfileSettings
    from greyanchor.core.profiling.separation import Separation
    from greyanchor.core.readings import ReadingSet


class _Group(click.Group):
    """Turns every refusal into one line on standard error and exit status 2."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except BadInput as error:
            click.echo(f"greyanchor: {error}", err=True)
            ctx.exit(2)
        except OSError as error:
            click.echo(f"greyanchor: {error.filename or ''}: {error.strerror or error}", err=True)
            ctx.exit(2)


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="greyanchor")
def main() -> None:
    """Colour management for print rooms: limits, linearization, profiles and proof. Percent everywhere."""


def _write(path: str, data: str | bytes) -> None:
    """Write a whole file or none: a failed write leaves what was there."""
    target = Path(path)
    partial = target.with_name(target.name + ".part")
    try:
        partial.write_bytes(data.encode() if isinstance(data, str) else data)
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)


def _say(as_json: bool, facts: dict[str, Any], lines: list[str]) -> None:
    click.echo(json.dumps(facts) if as_json else "\n".join(lines))


def _channels(text: str) -> tuple[str, ...]:
    channels = tuple(text.upper())
    if not channels or len(channels) > 8 or len(set(channels)) != len(channels) or not text.isalpha():
        raise BadInput(f"channels {text!r} are not understood; give one letter each, such as CMYK")
    return channels


def _limits(text: str | None) -> dict[str, float]:
    return _percents(text, "limit", 5, 100)


def _drift(text: str | None) -> tuple[tuple[str, float], ...]:
    return tuple(_percents(text, "drift", 50, 150).items())


def _percents(text: str | None, what: str, low: float, high: float) -> dict[str, float]:
    found: dict[str, float] = {}
    for part in (text or "").replace(" ", "").split(","):
        if not part:
            continue
        name, _, value = part.partition("=")
        try:
            number = float(value)
        except ValueError:
            number = -1.0
        if not name or not low <= number <= high:
            raise BadInput(
                f"{what} {part!r} is not understood; write C=90,M=85 with percent from {low:g} to {high:g}"
            )
        found[name.upper()] = number / 100.0
    return found


@main.command()
@click.option(
    "--purpose", required=True, help="ink-limit, linearization, total-ink, grey, profile or control-strip"
)
@click.option("--channels", default="CMYK", show_default=True)
@click.option("--patches", type=int, help="number of patches, where the purpose has a choice")
@click.option("--total-ink", type=float, default=300.0, show_default=True, help="percent")
@click.option("--limits", help="raw ink limits for ramps, C=90,M=85 in percent")
@click.option("--page", default="a4", show_default=True, help="a4, a3, a2 or WxH in millimetres")
@click.option("--method", default="strip", show_default=True, help="strip, table or inline")
@click.option("-o", "--output", required=True, help="chart as CGATS text")
@click.option("--pdf", help="sheets as PDF")
@click.option("--tiff", help="sheets as CMYK TIFF")
def chart(
    purpose: str, channels: str, patches: int | None, total_ink: float, limits: str | None, page: str,
    method: str, output: str, pdf: str | None, tiff: str | None,
) -> None:  # fmt: skip
    """Design and lay out a chart."""
    from greyanchor.core.charts import layout, sheets
    from greyanchor.core.charts.patches import design
    from greyanchor.core.formats import cgats

    names = _channels(channels)
    device = design(purpose, names, patches, min(total_ink / 100.0, float(len(names))), _limits(limits))
    shuffle = 3 if purpose in ("profile", "total-ink", "grey") else None
    meta = {"DESCRIPTOR": f"{purpose} chart, {'+'.join(names)}"}
    laid_out, plan = layout.lay_out(device, names, page, method, shuffle, meta)
    drawn = [(path, draw(laid_out)) for path, draw in ((pdf, sheets.pdf), (tiff, sheets.tiff)) if path]
    _write(output, cgats.dumps(laid_out))
    for path, data in drawn:
        _write(path, data)
    click.echo(
        f"{len(laid_out)} patches, {plan.rows} rows on {plan.sheets} sheet{'s' if plan.sheets > 1 else ''}, "
        f"about {plan.minutes:.0f} minutes a pass with a {plan.method.title}"
    )


@main.command()
@click.argument("chart_file", metavar="CHART")
@click.option(
    "--printer", default="petrel-44", show_default=True, help="stand-in, as printer or printer/media"
)
@click.option("--seed", type=int, default=1, show_default=True)
@click.option("--reading", type=int, default=1, show_default=True, help="which pass over the same sheet")
@click.option("--age", type=float, default=0.0, help="days since the machine was calibrated")
@click.option("--drift", help="ink volumes that drifted, C=110,M=95 in percent")
@click.option("--curves", help="print through these curves")
@click.option("--through", help="print the aim's colours through this ICC profile; needs --aim")
@click.option("--aim", help="aim of the patches for --through: .icc, CGATS text, or northlight-coated")
@click.option("--substrate-corrected", is_flag=True, help="carry the aim onto the profile's media first")
@click.option("-o", "--output", required=True)
def simulate(
    chart_file: str, printer: str, seed: int, reading: int, age: float, drift: str | None, curves: str | None, through: str | None,
    aim: str | None, substrate_corrected: bool, output: str,
) -> None:  # fmt: skip
    """Print and read a chart on the stand-in devices."""
    from dataclasses import replace

    from greyanchor.core.calibration.curves import CurveSet
    from greyanchor.core.formats import cgats, icc, readings_file
    from greyanchor.core.simulation.catalogue import press_by_name
    from greyanchor.core.simulation.standin import Condition, print_and_read

    if seed < 0 or reading < 0:
        raise BadInput("--seed and --reading are whole numbers from 0")
    if bool(through) != bool(aim):
        raise BadInput("--through and --aim go together: the aim says which colours the patches stand for")
    press = press_by_name(printer)
    sheet = sent = readings_file.read(chart_file)
    try:
        if through and aim:
            from greyanchor.core.verification import aims

            sent = aims.strip_through_profile(sheet, aims.load(aim), icc.read(through), substrate_corrected)
        pipeline = CurveSet.read(curves).apply if curves else None
        readings = print_and_read(sent, press, seed, reading, Condition(age, _drift(drift)), pipeline)
    except BadInput as error:
        raise (error if error.source else error.at(chart_file)) from None
    _write(output, cgats.dumps(replace(readings, device=sheet.device)))


def _read_measured(path: str) -> ReadingSet:
    from greyanchor.core.formats import readings_file

    readings = readings_file.read(path)
    if not readings.is_measured:
        raise BadInput("the file holds a chart, but no measured values", path)
    return readings


@main.command()
@click.argument("first")
@click.argument("second")
@click.option("--json", "as_json", is_flag=True)
def compare(first: str, second: str, as_json: bool) -> None:
    """Hold two passes over one sheet against each other."""
    from greyanchor.core.agreement import compare as compare_sets

    try:
        found = compare_sets(_read_measured(first), _read_measured(second))
    except BadInput as error:
        raise (error if error.source else error.at(second)) from None
    facts = {
        "mean": round(found.mean, 4), "p95": round(found.p95, 4), "max": round(found.max, 4),
        "outliers": list(found.outliers), "suspect_rows": list(found.suspect_rows),
    }  # fmt: skip
    verdict = "the passes agree" if found.acceptable() else "the passes differ: read the suspect rows again"
    _say(as_json, facts, [
        f"dE00 mean {found.mean:.2f}, 95th percentile {found.p95:.2f}, largest {found.max:.2f}: {verdict}",
        f"outliers: {', '.join(found.outliers) or 'none'}",
        f"suspect rows: {', '.join(map(str, found.suspect_rows)) or 'none'}",
    ])  # fmt: skip


@main.command()
@click.argument("readings_file", metavar="READINGS")
@click.option("--json", "as_json", is_flag=True)
def inklimit(readings_file: str, as_json: bool) -> None:
    """Find the ink limit of every channel from ramps."""
    from greyanchor.core.calibration.inklimit import find_limits

    try:
        limits = find_limits(_read_measured(readings_file))
    except BadInput as error:
        raise (error if error.source else error.at(readings_file)) from None
    facts = {
        "limits": {c: {"percent": round(100.0 * f.limit, 2), "reason": f.reason} for c, f in limits.items()}
    }
    _say(as_json, facts, [
        f"{c}  {100 * f.limit:5.1f} %  {f.reason}; keeps {f.keeps:.1f} %, saves {f.saves:.1f} % of the ink"
        for c, f in limits.items()
    ])  # fmt: skip


@main.command()
@click.argument("readings_file", metavar="READINGS")
@click.option("--limits", help="C=90,M=85 in percent of raw; what is not named keeps its whole ramp")
@click.option("--aim", default="sctv", show_default=True, help="sctv, tvi:NN, lstar or density")
@click.option("-o", "--output", required=True, help="curves as CSV, or as JSON when the name ends so")
@click.option("--json", "as_json", is_flag=True)
def linearize(readings_file: str, limits: str | None, aim: str, output: str, as_json: bool) -> None:
    """Make tone curves from ramps."""
    from greyanchor.core.calibration.linearization import linearize as make

    readings = _read_measured(readings_file)
    try:
        result = make(readings, _limits(limits), aim)
    except BadInput as error:
        raise (error if error.source else error.at(readings_file)) from None
    _write(output, result.curves.to_json() if output.endswith(".json") else result.curves.to_csv())
    facts = {
        "aim": aim,
        "channels": {
            c: {
                "limit": round(100.0 * result.curves.limits[c], 2),
                "before": dict(zip(("mean", "max"), (round(v, 3) for v in s.deviation_before))),
                "after": dict(zip(("mean", "max"), (round(v, 3) for v in s.deviation_after))),
            }
            for c, s in result.scales.items()
        },
    }
    _say(as_json, facts, [
        f"{c}  before: mean {s.deviation_before[0]:.1f}, largest {s.deviation_before[1]:.1f}; "
        f"predicted after: mean {s.deviation_after[0]:.2f}, largest {s.deviation_after[1]:.2f} (tone value, %)"
        for c, s in result.scales.items()
    ])  # fmt: skip


def _separation_options(command: Any) -> Any:
    """The options that settle how a profile is built; None keeps what is already settled."""
    options = (
        click.option("--total-ink", type=float, help="percent; the largest sum in the chart when left out"),
        click.option("--max-black", type=float, help="percent"),
        click.option("--black-start", type=float, help="percent of darkness"),
        click.option("--black-strength", type=float, help="percent"),
        click.option("--black-width", type=float, help="percent"),
        click.option("--handover", type=float, help="percent; how readily further inks take over"),
        click.option("--limits", help="largest amounts of single inks, C=90,M=85 in percent"),
        click.option("--preset", help="black generation for a need: even, thrift, keel or fog"),
        click.option(
            "--source", default="srgb", show_default=True, help="srgb, oprgb, p3, bt2020 or an ICC profile"
        ),
        click.option("--icc-version", type=click.Choice(["2", "4"]), default="4", show_default=True),
        click.option("--light", help="D50 when left out; another light, 5600K, or a file of nm and power"),
        click.option("--title"),
        click.option("--report", help="quality report as JSON"),
    )
    for option in reversed(options):
        command = option(command)
    return command


def _separation(readings: ReadingSet, chosen: dict[str, Any], before: Separation | None = None) -> Separation:
    """The separation asked for, on top of `before`, or of the ordinary one under the chart's own total ink."""
    from dataclasses import replace

    from greyanchor.core.profiling.separation import Separation, preset

    channels = len(readings.channels)
    if before is None:
        most = float(readings.inks().sum(axis=1).max())
        before = Separation(total_ink=min(max(most, 1.0), float(max(channels, 1))))
    if chosen["preset"]:
        before = preset(chosen["preset"]).apply(before)
    names = ("total_ink", "max_black", "black_start", "black_strength", "handover")
    told = {name: chosen[name] / 100.0 for name in names if chosen[name] is not None}
    if chosen["black_width"] is not None:
        told["width"] = chosen["black_width"] / 100.0
    if chosen["limits"]:
        told["limits"] = tuple(_limits(chosen["limits"]).items())
    return replace(before, **told)


def _settings(
    readings: ReadingSet, output: str, chosen: dict[str, Any], before: tuple[Separation, Light] | None = None
) -> ProfileSettings:
    from greyanchor.core.formats import icc, light_file
    from greyanchor.core.profiling import sources
    from greyanchor.core.profiling.build import ProfileSettings

    separation, light = before or (None, "D50")
    if chosen["light"]:
        light = light_file.read(chosen["light"]) if Path(chosen["light"]).suffix else chosen["light"]
    named = chosen["source"].lower() in sources.NAMES
    source = chosen["source"].lower() if named else icc.read(chosen["source"])
    return ProfileSettings(
        _separation(readings, chosen, separation), int(chosen["icc_version"]), light,
        chosen["title"] or Path(output).stem, source=source,
    )  # fmt: skip


def _deliver(result: ProfileResult, output: str, report: str | None) -> None:
    from greyanchor.core.profiling.build import REPORT_FIGURES

    _write(output, result.data)
    facts = result.report
    if report:
        _write(report, json.dumps({name: facts[name] for name in REPORT_FIGURES}, indent=1))
    for line in facts["warnings"]:
        click.echo(f"warning: {line}", err=True)
    click.echo(
        f"{facts['patches']} patches, {facts['seconds']:.1f} s; fit mean {facts['fit']['mean']:.2f}, "
        f"held out {facts['held_out']['mean']:.2f}, round trip {facts['round_trip']['mean']:.2f} dE00; "
        f"neutral dCh up to {facts['neutral_dch_max']:.2f}; gamut {facts['gamut_volume'] / 1000:.0f} thousand; "
        f"{facts['bytes'] / 2**20:.1f} MB"
    )


@main.command()
@click.argument("readings_files", metavar="READINGS...", nargs=-1, required=True)
@click.option("-o", "--output", required=True, help="the ICC profile")
@_separation_options
@click.option("--next-chart", help="CGATS chart of the patches that would help most, for the next reading")
@click.option("--next-patches", type=int, default=60, show_default=True)
def profile(
    readings_files: tuple[str, ...], output: str, report: str | None, next_chart: str | None, next_patches: int, **chosen: Any,
) -> None:  # fmt: skip
    """Build an ICC profile; several readings of one chart are compared and averaged."""
    from dataclasses import replace

    from greyanchor.core.agreement import average
    from greyanchor.core.agreement import compare as compare_sets
    from greyanchor.core.characterization.trust import double_spread
    from greyanchor.core.profiling.build import build_profile

    passes = [_read_measured(path) for path in readings_files]
    for path, other in zip(readings_files[1:], passes[1:]):
        try:
            found = compare_sets(passes[0], other)
        except BadInput as error:
            raise error.at(path) from None
        click.echo(
            f"{path}: dE00 mean {found.mean:.2f}, largest {found.max:.2f} against {readings_files[0]}",
            err=True,
        )
        if not found.acceptable():
            rows = ", ".join(map(str, found.suspect_rows)) or "none"
            click.echo(
                f"warning: the passes differ more than 0.5 mean or 2.0 largest; suspect rows: {rows}",
                err=True,
            )
    try:
        readings = average(passes)
        settings = replace(_settings(readings, output, chosen), noise=double_spread(passes))
        result = build_profile(readings, settings)
        proposed = _proposals(result, readings, settings, next_patches) if next_chart else None
    except BadInput as error:
        raise (error if error.source else error.at(readings_files[0])) from None
    _deliver(result, output, report)
    if next_chart and proposed:
        _write(next_chart, proposed)


def _proposals(result: ProfileResult, readings: ReadingSet, settings: ProfileSettings, count: int) -> str:
    import numpy as np

    from greyanchor.core.characterization.proposals import most_helpful
    from greyanchor.core.charts.layout import lay_out
    from greyanchor.core.formats import cgats
    from greyanchor.core.readings import as_inks

    channels = len(readings.channels)
    inks, _ = most_helpful(result.model, count, min(settings.separation.total_ink, float(channels)))
    device = as_inks(np.vstack([np.zeros((2, channels)), inks]), readings.channels)
    chart, _ = lay_out(device, readings.channels, meta={"DESCRIPTOR": "patches that would help most"})
    return cgats.dumps(chart)


@main.command()
@click.argument("profile_file", metavar="PROFILE")
@click.option("-o", "--output", required=True, help="the ICC profile")
@click.option(
    "--readings", "beside", help="characterization data beside the profile, instead of those inside"
)
@_separation_options
def rebuild(profile_file: str, output: str, beside: str | None, report: str | None, **chosen: Any) -> None:
    """Build a profile anew from the characterization data inside it, or beside it."""
    from greyanchor.core.formats import icc
    from greyanchor.core.profiling.build import build_profile
    from greyanchor.core.profiling.rebuild import characterization_of, settings_inside

    old = icc.read(profile_file)
    try:
        found, whence = (
            (_read_measured(beside), f"readings in {beside}") if beside else characterization_of(old)
        )
        chosen["title"] = chosen["title"] or old.description
        settings = _settings(found, output, chosen, settings_inside(found))
        result = build_profile(found, settings)
    except BadInput as error:
        raise (error if error.source else error.at(profile_file)) from None
    click.echo(f"from {whence}", err=True)
    _deliver(result, output, report)


@main.command()
@click.argument("profile_file", metavar="PROFILE")
@click.argument("prints", metavar="READINGS...", nargs=-1)
@click.option("--chart", "chart_file", help="write the chart to print raw next, and stop")
@click.option("--patches", type=int, default=240, show_default=True, help="patches of that chart")
@click.option("-o", "--output", help="the corrected ICC profile")
@_separation_options
def refine(
    profile_file: str, prints: tuple[str, ...], chart_file: str | None, patches: int, output: str | None, report: str | None, **chosen: Any,
) -> None:  # fmt: skip
    """Correct a profile by readings of prints made through it, the newest last."""
    from greyanchor.core.charts.layout import lay_out
    from greyanchor.core.formats import cgats, icc
    from greyanchor.core.profiling import refine as refining
    from greyanchor.core.profiling.build import build_from_model, characterize_for
    from greyanchor.core.profiling.rebuild import characterization_of, settings_inside
    from greyanchor.core.readings import GREY, as_inks

    old = icc.read(profile_file)
    if bool(chart_file) == bool(prints):
        raise BadInput("give either --chart FILE for the chart to print, or readings of it")
    if chart_file:
        channels = ("K",) if old.inks == GREY else old.inks
        device = as_inks(as_inks(refining.chart(old, patches), old.inks), channels)
        laid_out, _ = lay_out(
            device, channels, shuffle_seed=3, meta={"DESCRIPTOR": f"refining {old.description}"}
        )
        _write(chart_file, cgats.dumps(laid_out))
        click.echo(f"{len(laid_out)} patches; print them raw, read them, and give the readings")
        return
    if not output:
        raise BadInput("name the corrected profile with -o")
    try:
        readings, whence = characterization_of(old)
        chosen["title"] = chosen["title"] or old.description
        settings = _settings(readings, output, chosen, settings_inside(readings))
        model = characterize_for(readings, settings)
        model, found = refining.learn(model, old, [_read_measured(path) for path in prints])
        result = build_from_model(model, readings, settings)
    except BadInput as error:
        raise (error if error.source else error.at(profile_file)) from None
    click.echo(f"from {whence}", err=True)
    click.echo(
        f"the print was {found.off.mean:.2f} dE00 mean off; expected now {found.expected.mean:.2f}; noise alone {found.noise:.2f}"
        + (": what is left is noise, another round teaches nothing" if found.at_noise else "")
    )
    _deliver(result, output, report)


@main.command()
@click.argument("readings_file", metavar="READINGS")
@click.option("--aim", required=True, help=".icc, CGATS text, or northlight-coated")
@click.option(
    "--tolerances", default="iso12647-7:2016", show_default=True, help="a shipped set, or a JSON file"
)
@click.option("--substrate-corrected", is_flag=True)
@click.option("--json", "as_json", is_flag=True)
@click.pass_context
def check(
    ctx: click.Context,
    readings_file: str,
    aim: str,
    tolerances: str,
    substrate_corrected: bool,
    as_json: bool,
) -> None:
    """Hold a print to an aim under a tolerance set; exit status 1 when it fails."""
    from greyanchor.core.verification import aims
    from greyanchor.core.verification.check import check as run
    from greyanchor.core.verification.tolerances import load

    readings, target, limits = _read_measured(readings_file), aims.load(aim), load(tolerances)
    try:
        result = run(readings, target, limits, substrate_corrected)
    except BadInput as error:
        raise (error if error.source else error.at(readings_file)) from None
    lines = [f"{result.verdict.upper()}  {limits.title}, aim {target.name}, {len(result.ids)} patches"]
    for found in result.findings:
        value = "-" if found.value is None else f"{found.value:.2f}"
        limit = "" if found.criterion.limit is None else f"{found.criterion.limit:.1f}"
        lines.append(f"  {found.criterion.title:<42}{value:>8}{limit:>7}  {found.verdict}")
    _say(as_json, result.as_dict(), lines)
    ctx.exit(0 if result.verdict == "pass" else 1)


@main.command()
@click.argument("file")
@click.option("--json", "as_json", is_flag=True)
def inspect(file: str, as_json: bool) -> None:
    """Tell what a profile, readings, chart or curve file holds."""
    from greyanchor.core.inspection import inspect_file

    facts = inspect_file(file)
    _say(as_json, facts, [f"{name.replace('_', ' ')}: {value}" for name, value in facts.items()])


@main.command()
@click.argument("source")
@click.argument("target")
def convert(source: str, target: str) -> None:
    """Rewrite readings or a chart between CGATS (.txt), CxF3 (.cxf, .xml) and CSV (.csv)."""
    from greyanchor.core.formats import readings_file

    readings = readings_file.read(source)
    _write(target, readings_file.dumps(readings, target))


def _application(name: str, **options: Any) -> None:
    from greyanchor.config import run

    sys.exit(getattr(run, name)(**options))


@main.command()
@click.option("--port", type=int, envvar="PORT", default=8000, show_default=True)
@click.option("--host", default="127.0.0.1", show_default=True)
def demo(port: int, host: str) -> None:
    """Serve the application with demo data, web and worker together; Ctrl-C stops both."""
    _application("demo", port=port, host=host)


@main.command()
@click.option("--port", type=int, envvar="PORT", default=8000, show_default=True)
@click.option("--host", default="127.0.0.1", show_default=True)
def serve(port: int, host: str) -> None:
    """Serve the application, web and worker together; Ctrl-C stops both."""
    _application("serve", port=port, host=host)


@main.command()
def worker() -> None:
    """Run a worker alone, for background tasks."""
    _application("worker")


if __name__ == "__main__":
    main()
