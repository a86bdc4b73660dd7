"""What a shop's modes let expect of a build before anything of its media was read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from greyanchor.builds.models import Build
from greyanchor.core.printing.likely import INPUTS, Known, Likely, Traits, likely
from greyanchor.library.models import Media, PrintMode

#: modes of the media's own class, and of others, that are looked at: the newest
_MOST = 40


@dataclass(frozen=True)
class Expected:
    """What the library lets expect of a build, and from which modes."""

    found: Likely
    modes: list[PrintMode]

    @property
    def handling(self) -> str:
        """Heat and vacuum of the most alike, in words."""
        environment = self.modes[0].environment
        return f"{environment.get('heat', 0):g} °C, vacuum {environment.get('vacuum', 0):g} %"

    def curves(self, limits: Mapping[str, float]) -> dict[str, list[tuple[float, float, float]]]:
        """Input, raw output and its standard deviation, percent, of each ink at limits in percent."""
        return {
            c: [(0.0, 0.0, 0.0)]
            + [
                (float(x), limits[c] * g.value / 100.0, limits[c] * g.unsure / 100.0)
                for x, g in zip(INPUTS, row)
            ]
            for c, row in self.found.curves.items()
            if c in limits
        }


def _traits(media: Media) -> Traits:
    return Traits(media.media_class.name, float(media.weight or 0.0), media.brightener)


def expected_of(build: Build) -> Expected | None:
    """Limits, total ink and curves that media like this one were given on machines like this one, the
    most alike weighing most; None where there are fewer than two.
    """
    mode = build.mode
    alike = (
        PrintMode.objects.filter(
            printer__model=mode.printer.model,
            ink_set=mode.ink_set_id,
            state__in=[PrintMode.State.READY, PrintMode.State.RELEASED],
        )
        .exclude(media=mode.media_id)
        .exclude(limits={})
        .select_related("media__media_class", "curve_set", "profile")
        .defer("profile__data", "profile__fitted")
    )
    of_class = alike.filter(media__media_class=mode.media.media_class_id).order_by("-pk")[:_MOST]
    others = alike.exclude(media__media_class=mode.media.media_class_id).order_by("-pk")[:_MOST]
    own = [m for m in (*of_class, *others) if not m.inherited]
    known = [
        Known(
            m.name, _traits(m.media), m.limits, m.total_ink, m.environment.get("passes"), m.curves,
            (m.profile.report or {}).get("gamut_volume") if m.profile else None, m.media.dry_minutes,
        )
        for m in own
    ]  # fmt: skip
    found = likely(known, _traits(mode.media), mode.environment.get("passes"))
    if found is None:
        return None
    return Expected(found, sorted(own, key=lambda m: -found.weights.get(m.name, 0.0))[:3])
