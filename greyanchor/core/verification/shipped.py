"""The tolerance sets that ship with the application; they are copied to be changed, never edited."""

from __future__ import annotations

from pathlib import Path

from greyanchor.core.errors import BadInput
from greyanchor.core.verification.tolerances import Criterion, ToleranceSet, from_json


def _iso(edition: str, criteria: tuple[Criterion, ...]) -> ToleranceSet:
    return ToleranceSet(
        f"iso12647-7:{edition}",
        f"ISO 12647-7:{edition}, contract proof",
        f"ISO 12647-7, edition {edition}",
        (*criteria, *_reported("de00" if edition == "2016" else "de76")),
        edition,
    )


def _reported(measure: str) -> tuple[Criterion, ...]:
    """Figures without a limit that every report shows."""
    over_all = (
        ("best90_max", "Best 90 %, largest"),
        ("worst10_mean", "Worst 10 %, mean"),
        ("sd", "Standard deviation"),
    )
    hues = (
        ("primaries_dh_mean", "C M Y solids, mean hue difference", "chromatic_primaries"),
        ("secondaries_dh_mean", "R G B overprints, mean hue difference", "secondaries"),
        ("grey_dh_mean_reported", "Composed greys, mean hue difference", "greys"),
        ("outer_gamut_dh_mean", "Gamut surface, mean hue difference", "outer_gamut"),
        ("all_dh_mean", "All patches, mean hue difference", "all"),
    )
    return (
        *(Criterion(name, title, "all", measure, name, None) for name, title in over_all),
        *(Criterion(name, title, group, "dh", "mean", None) for name, title, group in hues),
    )


_ISO_2016 = _iso(
    "2016",
    (
        Criterion("substrate", "Substrate", "substrate", "de00", "max", 3.0),
        Criterion("mean", "All patches, mean", "all", "de00", "mean", 2.5),
        Criterion("p95", "All patches, 95th percentile", "all", "de00", "p95", 5.0),
        Criterion("primaries_max", "C M Y K solids, largest", "primaries", "de00", "max", 3.0),
        Criterion(
            "primaries_dh_max",
            "C M Y solids, largest hue difference",
            "chromatic_primaries",
            "dh",
            "max",
            2.5,
        ),
        Criterion("grey_dch_mean", "Composed greys, mean", "greys", "dch", "mean", 2.0),
        Criterion("grey_dch_max", "Composed greys, largest", "greys", "dch", "max", 3.5),
        Criterion("outer_gamut_mean", "Gamut surface, mean", "outer_gamut", "de00", "mean", 2.5),
        Criterion("spot_max", "Spot colour solids, largest", "spots", "de00", "max", 2.5),
    ),
)
_ISO_2013 = _iso(
    "2013",
    (
        Criterion("substrate", "Substrate", "substrate", "de76", "max", 3.0),
        Criterion("mean", "All patches, mean", "all", "de76", "mean", 3.0),
        Criterion("max", "All patches, largest", "all", "de76", "max", 6.0),
        Criterion("primaries_max", "C M Y K solids, largest", "primaries", "de76", "max", 5.0),
        Criterion(
            "primaries_dh_max",
            "C M Y solids, largest hue difference",
            "chromatic_primaries",
            "dh",
            "max",
            2.5,
        ),
        Criterion("grey_dh_mean", "Composed greys, mean hue difference", "greys", "dh", "mean", 1.5),
        Criterion("outer_gamut_mean", "Gamut surface, mean", "outer_gamut", "de76", "mean", 4.0),
        Criterion("spot_max", "Spot colour solids, largest", "spots", "de00", "max", 2.5),
    ),
)

_GRAYSCALE = (
    Criterion("grey_wdl_mean", "CMY scale, tone, mean", "greys", "wdl", "mean", 1.5),
    Criterion("grey_wdl_max", "CMY scale, tone, largest", "greys", "wdl", "max", 3.0),
    Criterion("grey_wdch_mean", "CMY scale, balance, mean", "greys", "wdch", "mean", 1.5),
    Criterion("grey_wdch_max", "CMY scale, balance, largest", "greys", "wdch", "max", 3.0),
    Criterion("black_wdl_mean", "K scale, tone, mean", "black", "wdl", "mean", 1.5),
    Criterion("black_wdl_max", "K scale, tone, largest", "black", "wdl", "max", 3.0),
)
_TARGETED = (
    Criterion("substrate", "Substrate", "substrate", "de00", "max", 3.0),
    Criterion("k_solid", "K solid", "k_solid", "de00", "max", 5.0),
    Criterion("cmy_max", "C M Y solids, largest", "chromatic_primaries", "de00", "max", 3.5),
    Criterion("rgb_max", "R G B overprints, largest", "secondaries", "de00", "max", 4.2),
)
_COLORSPACE = (
    Criterion("mean", "All patches, mean", "all", "de00", "mean", 1.5),
    Criterion("p95", "All patches, 95th percentile", "all", "de00", "p95", 3.0),
)


def _g7(level: str, criteria: tuple[Criterion, ...]) -> ToleranceSet:
    return ToleranceSet(
        f"g7-{level.lower()}", f"G7 {level}", "CGATS TR 015, weighted differences", criteria, "2015"
    )


_EVEN = ToleranceSet(
    "uniformity",
    "Uniformity over the sheet, nine places",
    "limits of this application, from the nine places that ISO 12647-7 asks for",
    (
        Criterion("place_max", "Any place from the mean of its colour, largest", "all", "de00", "max", 2.0),
        Criterion("place_p95", "Any place, 95th percentile", "all", "de00", "p95", 1.5),
        Criterion("place_dl_max", "Lightness, largest", "all", "dl", "max", 1.5),
        Criterion("place_mean", "All places, mean", "all", "de00", "mean", 1.0),
    ),
    "1",
)
_REPEATED = ToleranceSet(
    "repeatability",
    "Repeatability, two prints a day apart",
    "limits of this application, for the repeated print that ISO 12647-7 asks for",
    (
        Criterion("repeat_max", "All patches, largest", "all", "de00", "max", 1.5),
        Criterion("repeat_mean", "All patches, mean", "all", "de00", "mean", 0.8),
        Criterion("repeat_primaries_max", "C M Y K solids, largest", "primaries", "de00", "max", 1.5),
    ),
    "1",
)

SHIPPED = {
    t.id: t
    for t in (
        _ISO_2016,
        _ISO_2013,
        _g7("Grayscale", _GRAYSCALE),
        _g7("Targeted", (*_GRAYSCALE, *_TARGETED)),
        _g7("Colorspace", (*_GRAYSCALE, *_TARGETED, *_COLORSPACE)),
        _EVEN,
        _REPEATED,
    )
}
#: sets that hold a print to itself: the mean of its places, or another print
AGAINST_ITSELF = ("uniformity", "repeatability")


def load(name: str) -> ToleranceSet:
    """A shipped set by id, or one from a JSON file.

    Raises `BadInput` for an id that is not shipped and a file that cannot be read.

    >>> load("iso12647-7:2016").id
    'iso12647-7:2016'
    """
    if name in SHIPPED:
        return SHIPPED[name]
    path = Path(name)
    if path.suffix.lower() != ".json":
        raise BadInput(f"no tolerance set {name!r}; use {', '.join(SHIPPED)} or a JSON file")
    try:
        return from_json(path.read_text(encoding="utf-8-sig"), path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"cannot be read: {error}", path.name) from error
