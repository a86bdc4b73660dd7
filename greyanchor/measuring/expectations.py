"""What a print should measure, from everything this print environment, or others with its inks, measured
before."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import numpy as np
from django.db.models import Count, Max, QuerySet
from django.utils import timezone

from greyanchor.background.cache import kept
from greyanchor.core.characterization.expectation import (
    DAY,
    ENOUGH_MEDIA,
    InkFilms,
    learn_films,
    mean_of_media,
)
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.measurement.expectation import Expectation, guess
from greyanchor.core.measurement.readings import ReadingSet, as_inks
from greyanchor.core.measurement.repeatability import average, from_pass
from greyanchor.core.verification.generic import generic_lab
from greyanchor.core.verification.own_inks import is_own
from greyanchor.library.models import InkSet
from greyanchor.measuring.cache import remembered
from greyanchor.measuring.films import film_expectation
from greyanchor.measuring.models import ReadingPass, SheetPrint

#: the newest prints of an environment that are learned from, and the most other media
_NEWEST, _MEDIA = 6, 6
#: ink volumes may have drifted this much since a print of another day (fraction)
_DRIFTED = 0.06
#: how far full white hides, about what it measures, and how little is known of it (Lab)
_HIDES, _WHITE, _UNKNOWN = 2.4, np.array([90.0, -1.0, -2.0]), 12.0
#: spread (Lab) of patches of a strip that are one ink alone
_DRIFTED_ALONE = 6.0
#: charts that are printed to see whether machine or media changed
FOR_DRIFT = ("restore", "control-strip")
#: charts that hold a ramp of every ink alone
_WITH_RAMPS = ("ink-limit", "linearization", "profile")


def expectation_of(job: SheetPrint) -> Expectation:
    """What the patches of a print should measure: the best that is known before it is read."""
    if job.is_film:
        return film_expectation(job)
    if job.pk is None:
        return _guess(job)
    sources = _sources(job)
    key = ("expected", job.pk, job.chart_id, job.chart.created_at, *_stamps(sources))
    return remembered(key, lambda: kept(key, lambda: _learned(job, sources)))  # type: ignore[no-any-return]


def _stamps(passes: list[ReadingPass]) -> list[tuple[int, object]]:
    """What identifies passes as they are now."""
    return [(p.pk, p.finished_at) for p in passes]


def _learned(job: SheetPrint, sources: list[ReadingPass]) -> Expectation:
    raw = job.raw_chart
    white = _whites(job, raw.channels)
    kept_channels = [i for i in range(len(raw.channels)) if i not in white]
    channels = tuple(raw.channels[i] for i in kept_channels)
    inks = as_inks(raw.values()[:, kept_channels], channels)
    try:
        films = learn_films(_readings_of(sources), channels) if sources and channels else None
    except BadInput:
        films = None  # an ink was never printed alone: other media say more
    if films is not None:
        found = films.expect(inks, _volume(job, sources), _named(sources))
        names = job.chart.patches.names or ()
        if own := [i for i, name in enumerate(names) if is_own(name)]:
            # how far an ink drifted is what these few patches are printed to see
            spread = found.spread.copy()
            spread[own] = np.maximum(spread[own], _DRIFTED_ALONE)
            found = replace(found, spread=spread)
        return _under_white(found, raw.values()[:, white].sum(axis=1)) if white else found
    try:
        if white:
            raise BadInput("white says nothing of other media")
        return mean_of_media(inks, _other_media(job))
    except BadInput:
        return _guess(job)


def _whites(job: SheetPrint, channels: tuple[str, ...]) -> list[int]:
    """Which channels are white and other inks that no separation uses: what lies below them is hidden."""
    if len(channels) < 3:  # its own chart: black and white
        return []
    inks = InkSet.objects.filter(name=job.environment.get("ink_set")).first()
    names = {i.channel for i in inks.planes} if inks else set()
    return [i for i, c in enumerate(channels) if c in names]


def _under_white(found: Expectation, amounts: Array) -> Expectation:
    """The same where white was printed last, by the usual hiding of white; what lies under it is hardly
    known.
    """
    hides = 1.0 - np.exp(-_HIDES * amounts)
    lab = found.lab + hides[:, None] * (_WHITE - found.lab)
    spread = np.where(amounts > 0.0, _UNKNOWN, found.spread)
    return replace(found, lab=lab, spread=spread)


def _guess(job: SheetPrint) -> Expectation:
    raw = job.raw_chart
    return guess(generic_lab(as_inks(raw.values(), raw.channels), raw.channels))


def pass_expectation(first: ReadingPass) -> Expectation:
    """What a print should read again, from its first complete pass."""
    key = ("again", first.pk, first.finished_at)
    return remembered(key, lambda: from_pass(first.lab(), first.number))  # type: ignore[no-any-return]


def _sources(job: SheetPrint) -> list[ReadingPass]:
    """The passes to learn from: looked up again only where one was finished or withdrawn since."""
    state = _earlier(job).aggregate(n=Count("pk"), newest=Max("pk"), last=Max("finished_at"))
    key = ("sources", job.pk, job.environment_hash, *state.values())
    return remembered(key, lambda: _same_environment(job))  # type: ignore[no-any-return]


def _earlier(job: SheetPrint) -> QuerySet[ReadingPass]:
    return ReadingPass.objects.filter(
        sheet_print__environment_hash=job.environment_hash,
        sheet_print__pk__lt=job.pk,
        sheet_print__printer=job.printer_id,
        state=ReadingPass.State.DONE,
    )


def _same_environment(job: SheetPrint) -> list[ReadingPass]:
    """Complete passes over earlier prints of the same environment with the same inks, the newest first."""
    passes = (
        _earlier(job)
        .select_related("sheet_print__chart")
        .defer("text", "sheet_print__chart__text")
        .order_by("-sheet_print", "number")
    )
    known = set(job.sent_channels or "CMYK")
    known -= {c for i, c in enumerate(job.sent_channels or ()) if i in _whites(job, tuple(job.sent_channels))}
    prints: dict[int, list[ReadingPass]] = {}
    for found in passes:
        if set(found.sheet_print.sent_channels or "CMYK") <= known:
            prints.setdefault(found.sheet_print_id, []).append(found)
        if len(prints) > _NEWEST:
            break
    return [p for pk in list(prints)[:_NEWEST] for p in prints[pk]]


def _readings_of(passes: list[ReadingPass]) -> list[ReadingSet]:
    """Means of the passes over each print, with the device values that were sent."""
    prints: dict[int, list[ReadingPass]] = {}
    for found in passes:
        prints.setdefault(found.sheet_print_id, []).append(found)
    out = []
    for members in prints.values():
        raw = members[0].sheet_print.raw_chart
        mean = average([p.readings for p in members])
        out.append(replace(mean, channels=raw.channels, device=raw.device))
    return out


def _volume(job: SheetPrint, sources: list[ReadingPass]) -> float:
    """How far ink volumes may have moved since: charts that look for drift are printed where there is
    some.
    """
    if job.chart.purpose in FOR_DRIFT:
        return _DRIFTED
    newest = max(p.finished_at for p in sources if p.finished_at is not None)
    return DAY if timezone.now() - newest < timedelta(days=1) else _DRIFTED


def _named(sources: list[ReadingPass]) -> str:
    charts = dict.fromkeys(p.sheet_print.chart.purpose for p in sources)
    return f"what this print environment measured before ({', '.join(charts)})"


def _other_media(job: SheetPrint) -> list[InkFilms]:
    """Ink films of other media with the same printer and inks, the newest print of each."""
    environment = job.environment
    prints = (
        SheetPrint.objects.filter(
            environment__printer=environment.get("printer"),
            environment__ink_set=environment.get("ink_set"),
            chart__purpose__in=_WITH_RAMPS,
            passes__state=ReadingPass.State.DONE,
        )
        .exclude(environment_hash=job.environment_hash)
        .exclude(pk__gte=job.pk)
        .select_related("chart")
        .defer("chart__text")
        .distinct()
        .order_by("-pk")[:60]
    )
    channels = tuple(job.sent_channels or "CMYK")
    found: dict[str, InkFilms] = {}
    for other in prints:
        media = str(other.environment.get("media"))
        if media in found or tuple(other.sent_channels or "CMYK") != channels:
            continue
        films = _films_of(other, channels)
        if films is not None:
            found[media] = films
        if len(found) >= _MEDIA:
            break
    if len(found) < ENOUGH_MEDIA:
        raise BadInput("no two other media were read with these inks")
    return list(found.values())


def _films_of(job: SheetPrint, channels: tuple[str, ...]) -> InkFilms | None:
    passes = list(job.passes.filter(state=ReadingPass.State.DONE).defer("text"))
    for found in passes:
        found.sheet_print = job
    key = ("films", job.pk, job.chart_id, *_stamps(passes))
    return remembered(key, lambda: _try_films(passes, channels))  # type: ignore[no-any-return]


def _try_films(passes: list[ReadingPass], channels: tuple[str, ...]) -> InkFilms | None:
    try:
        return learn_films(_readings_of(passes), channels)
    except BadInput:
        return None


def expected_lab(job: SheetPrint, first: ReadingPass | None = None) -> Array:
    """Lab (n, 3) that the reading page shows as what is to come: the `first` pass where there is one."""
    return first.lab() if first is not None else expectation_of(job).lab
