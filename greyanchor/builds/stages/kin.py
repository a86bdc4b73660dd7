"""What the profile charts of a shop's other media teach a new one."""

from __future__ import annotations

from greyanchor.background.cache import kept
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.stages import names
from greyanchor.core.characterization.small_charts import LEAST_PATCHES, Kin, learn_kin
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.measuring.services import averaged

#: a chart of fewer patches than this is built with what other media teach
SMALL = 200
#: media that are learned from, the newest of each, and the fewest
MOST, LEAST = 5, 2


def characterizations(build: Build) -> list[tuple[str, ReadingSet]]:
    """Accepted profile charts of other media with the same inks on machines of the same model, by the
    name of the media; the newest of each.
    """
    mode = build.mode
    stages = (
        Stage.objects.filter(
            kind=names.PROFILE_CHART,
            state=Stage.State.ACCEPTED,
            build__mode__printer__model=mode.printer.model,
            build__mode__ink_set=mode.ink_set_id,
        )
        .exclude(build__mode__media=mode.media_id)
        .exclude(sheet_print=None)
        .select_related("build__mode__media", "sheet_print__chart")
        .order_by("-decided_at", "-pk")
    )
    found: dict[int, tuple[str, ReadingSet]] = {}
    for stage in stages:
        media = stage.build.mode.media
        if media.pk in found or stage.sheet_print is None:
            continue
        readings = averaged(stage.sheet_print)
        if len(readings) >= LEAST_PATCHES and readings.spectra is not None:
            found[media.pk] = (media.name, readings)
        if len(found) == MOST:
            break
    return list(found.values())


def kin_of(build: Build) -> Kin | None:
    """What the other media teach; None where there are too few. It takes seconds the first time."""
    found = characterizations(build)
    if len(found) < LEAST:
        return None
    key = ("kin", *((name, readings.content_hash()) for name, readings in found))
    return kept(key, lambda: learn_kin([r for _, r in found], [n for n, _ in found]))
