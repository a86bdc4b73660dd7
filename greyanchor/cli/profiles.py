"""The commands that make profiles: `profile`, `rebuild` and `refine`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from greyanchor.cli.common import limits_of, read_measured, write
from greyanchor.core.errors import BadInput

if TYPE_CHECKING:
    from greyanchor.core.colour.illuminants import Light
    from greyanchor.core.measurement.readings import ReadingSet
    from greyanchor.core.profiling.build import ProfileResult, ProfileSettings
    from greyanchor.core.profiling.separation import Separation


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
    """The separation asked for, on top of `before`, or of the ordinary one under the chart's own total
    ink.
    """
    from dataclasses import replace

    from greyanchor.core.profiling.separation import Separation, preset

    channels = len(readings.channels)
    if before is None:
        most = float(readings.inks().sum(axis=1).max())
        before = Separation(total_ink=min(max(most, 1.0), float(max(channels, 1))))
    if chosen["preset"]:
        before = preset(chosen["preset"]).apply(before)
    names = ("total_ink", "max_black", "black_start", "black_strength", "handover")
    facts = {name: chosen[name] / 100.0 for name in names if chosen[name] is not None}
    if chosen["black_width"] is not None:
        facts["width"] = chosen["black_width"] / 100.0
    if chosen["limits"]:
        facts["limits"] = tuple(limits_of(chosen["limits"]).items())
    return replace(before, **facts)


def _settings(
    readings: ReadingSet, output: str, chosen: dict[str, Any], before: tuple[Separation, Light] | None = None
) -> ProfileSettings:
    from greyanchor.core.colour import rgb_spaces
    from greyanchor.core.formats import icc, light_file
    from greyanchor.core.profiling.build import ProfileSettings

    separation, light = before or (None, "D50")
    if chosen["light"]:
        light = light_file.read(chosen["light"]) if Path(chosen["light"]).suffix else chosen["light"]
    named = chosen["source"].lower() in rgb_spaces.NAMES
    source = chosen["source"].lower() if named else icc.read(chosen["source"])
    return ProfileSettings(
        _separation(readings, chosen, separation),
        int(chosen["icc_version"]),
        light,
        chosen["title"] or Path(output).stem,
        source=source,
    )


def _deliver(result: ProfileResult, output: str, report: str | None) -> None:
    from greyanchor.core.profiling.build import REPORT_FIGURES

    write(output, result.data)
    facts = result.report
    if report:
        write(report, json.dumps({name: facts[name] for name in REPORT_FIGURES}, indent=1))
    for line in facts["warnings"]:
        click.echo(f"warning: {line}", err=True)
    click.echo(
        f"{facts['patches']} patches, {facts['seconds']:.1f} s; fit mean {facts['fit']['mean']:.2f}, "
        f"held out {facts['held_out']['mean']:.2f}, round trip {facts['round_trip']['mean']:.2f} dE00; "
        f"neutral dCh up to {facts['neutral_dch_max']:.2f}; gamut {facts['gamut_volume'] / 1000:.0f} "
        "thousand; "
        f"{facts['bytes'] / 2**20:.1f} MB"
    )


class _TakesLike(click.Command):
    """Every file after ``--like`` is one of other media, up to the next option."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        spread: list[str] = []
        inside = False
        for word in args:
            if word.startswith("-"):
                inside = word == "--like"
                if inside:
                    continue
            spread += ["--like", word] if inside else [word]
        if args and args[-1] == "--like":
            raise click.UsageError("--like needs a file")
        return super().parse_args(ctx, spread)


@click.command(cls=_TakesLike)
@click.argument("readings_files", metavar="READINGS...", nargs=-1, required=True)
@click.option("-o", "--output", required=True, help="the ICC profile")
@_separation_options
@click.option(
    "--like",
    multiple=True,
    metavar="OTHER...",
    help="readings of other media with the same inks, to learn from; they follow the readings",
)
@click.option("--next-chart", help="CGATS chart of the patches that would help most, for the next reading")
@click.option("--next-patches", type=int, default=60, show_default=True)
def profile(
    readings_files: tuple[str, ...],
    output: str,
    report: str | None,
    like: tuple[str, ...],
    next_chart: str | None,
    next_patches: int,
    **chosen: Any,
) -> None:
    """Build an ICC profile; several readings of one chart are compared and averaged."""
    from dataclasses import replace

    from greyanchor.core.characterization.trust import double_spread
    from greyanchor.core.measurement.repeatability import average
    from greyanchor.core.measurement.repeatability import compare as compare_sets
    from greyanchor.core.profiling.build import build_profile

    passes = [read_measured(path) for path in readings_files]
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
        more = next_patches if next_chart else 0
        result = _built_like(readings, like, settings, more) if like else build_profile(readings, settings)
        proposed = _proposals(result, readings, settings, next_patches) if next_chart else None
    except BadInput as error:
        raise (error if error.source else error.at(readings_files[0])) from None
    _deliver(result, output, report)
    if next_chart and proposed:
        write(next_chart, proposed)


def _built_like(
    readings: ReadingSet, like: tuple[str, ...], settings: ProfileSettings, more: int
) -> ProfileResult:
    from greyanchor.core.characterization.small_charts import gain_of_more, learn_kin
    from greyanchor.core.profiling.build import build_like

    kin = learn_kin([read_measured(path) for path in like], like)
    result, found = build_like(readings, kin, settings)
    click.echo(
        f"learned with {len(like)} other media: {found.off:.2f} dE00 from what they let expect, they among "
        f"themselves {found.usual:.2f}; most alike: {found.nearest}",
        err=True,
    )
    if more:
        before, after = gain_of_more(kin, result.model, readings.inks(), more)
        pays = "they pay" if after < 0.85 * before else "they hardly pay"
        click.echo(
            f"{more} patches more: colours unsure by {before:.2f} dE00 now, by {after:.2f} then; {pays}",
            err=True,
        )
    return result


def _proposals(result: ProfileResult, readings: ReadingSet, settings: ProfileSettings, count: int) -> str:
    import numpy as np

    from greyanchor.core.characterization.proposals import most_helpful
    from greyanchor.core.charts.layout import lay_out
    from greyanchor.core.formats import cgats
    from greyanchor.core.measurement.readings import as_inks

    channels = len(readings.channels)
    inks, _ = most_helpful(result.model, count, min(settings.separation.total_ink, float(channels)))
    device = as_inks(np.vstack([np.zeros((2, channels)), inks]), readings.channels)
    chart, _ = lay_out(device, readings.channels, meta={"DESCRIPTOR": "patches that would help most"})
    return cgats.dumps(chart)


@click.command()
@click.argument("profile_file", metavar="PROFILE")
@click.option("-o", "--output", required=True, help="the ICC profile")
@click.option(
    "--readings", "beside", help="characterization data beside the profile, instead of those inside"
)
@_separation_options
def rebuild(profile_file: str, output: str, beside: str | None, report: str | None, **chosen: Any) -> None:
    """Build a profile again from the characterization data inside it, or beside it."""
    from greyanchor.core.formats import icc
    from greyanchor.core.profiling.build import build_profile
    from greyanchor.core.profiling.rebuild import LIKE, characterization_of, settings_inside

    old = icc.read(profile_file)
    try:
        found, source = (
            (read_measured(beside), f"readings in {beside}") if beside else characterization_of(old)
        )
        chosen["title"] = chosen["title"] or old.description
        settings = _settings(found, output, chosen, settings_inside(found))
        result = build_profile(found, settings)
    except BadInput as error:
        raise (error if error.source else error.at(profile_file)) from None
    click.echo(f"from {source}", err=True)
    if LIKE in found.meta:
        click.echo(
            f"warning: this profile was learned with other media ({found.meta[LIKE]}); built again from its "
            f"own {len(found)} patches alone it is rougher: give `profile` the readings and --like",
            err=True,
        )
    _deliver(result, output, report)


@click.command()
@click.argument("profile_file", metavar="PROFILE")
@click.argument("prints", metavar="READINGS...", nargs=-1)
@click.option("--chart", "chart_file", help="write the chart to print raw next, and stop")
@click.option("--patches", type=int, default=240, show_default=True, help="patches of that chart")
@click.option("-o", "--output", help="the corrected ICC profile")
@_separation_options
def refine(
    profile_file: str,
    prints: tuple[str, ...],
    chart_file: str | None,
    patches: int,
    output: str | None,
    report: str | None,
    **chosen: Any,
) -> None:
    """Correct a profile by readings of prints made through it, the newest last."""
    from greyanchor.core.charts.layout import lay_out
    from greyanchor.core.formats import cgats, icc
    from greyanchor.core.measurement.readings import GREY, as_inks
    from greyanchor.core.profiling import refine as refining
    from greyanchor.core.profiling.build import build_from_model, characterize_for
    from greyanchor.core.profiling.rebuild import characterization_of, settings_inside

    old = icc.read(profile_file)
    if bool(chart_file) == bool(prints):
        raise BadInput("give either --chart FILE for the chart to print, or readings of it")
    if chart_file:
        channels = ("K",) if old.inks == GREY else old.inks
        device = as_inks(as_inks(refining.chart(old, patches), old.inks), channels)
        laid_out, _ = lay_out(
            device, channels, shuffle_seed=3, meta={"DESCRIPTOR": f"refining {old.description}"}
        )
        write(chart_file, cgats.dumps(laid_out))
        click.echo(f"{len(laid_out)} patches; print them raw, read them, and give the readings")
        return
    if not output:
        raise BadInput("name the corrected profile with -o")
    try:
        readings, source = characterization_of(old)
        chosen["title"] = chosen["title"] or old.description
        settings = _settings(readings, output, chosen, settings_inside(readings))
        model = characterize_for(readings, settings)
        model, found = refining.learn(model, old, [read_measured(path) for path in prints])
        result = build_from_model(model, readings, settings)
    except BadInput as error:
        raise (error if error.source else error.at(profile_file)) from None
    click.echo(f"from {source}", err=True)
    click.echo(
        (
            f"the print was {found.off.mean:.2f} dE00 mean off; expected now "
            f"{found.expected.mean:.2f}; noise "
            f"alone {found.noise:.2f}"
        )
        + (": what is left is noise, another round teaches nothing" if found.at_noise else "")
    )
    _deliver(result, output, report)
