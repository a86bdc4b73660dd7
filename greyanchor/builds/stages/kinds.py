"""The stages of a build, in order, with what each is for."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Kind:
    """A kind of stage.

    Attributes
    ----------
    name, title
        Key and heading.
    purpose
        What it is for, in one line.
    why
        The short "why and how" that opens in place.
    passes
        Readings wanted; 0 when the stage has no chart of its own.
    """

    name: str
    title: str
    purpose: str
    why: str
    passes: int = 0


INK_LIMITS, LINEARIZATION, TOTAL_INK = "ink-limits", "linearization", "total-ink"
GREYS = "grey-balance"
PROFILE_CHART, PROFILE, CHECK, RELEASE = "profile-chart", "profile", "check", "release"

KINDS = (
    Kind(
        INK_LIMITS,
        "Ink limits",
        "How much of each ink does useful work on this media.",
        "A coarse ramp of every ink alone is printed raw and read twice. Past some input chroma hardly grows, hue turns or "
        "density falls: ink beyond that is wasted and does harm. The limit becomes the new 100 %.",
        2,
    ),
    Kind(
        LINEARIZATION,
        "Linearization",
        "An even tone scale from 0 to 100 % for every ink.",
        "A finer ramp up to each limit is printed raw and read twice. The curve is the inverse of the smoothed measured tone "
        "scale, so that equal steps of input give equal steps of tone. It never reverses, whatever the noise. A short chart "
        "printed through the curves confirms them and is the baseline that later restores come back to.",
        2,
    ),
    Kind(
        GREYS,
        "Grey balance",
        "Composed greys that are neutral on this media, and both grey scales on the G7 tone. Not every mode needs it.",
        "The grey chart is printed through the linearization and read twice. One smooth curve for each of C, M and Y, and one "
        "for K, is solved so that the scales measure the aim of CGATS TR 015; the curves stand on top of the linearization. "
        "This is calibration. Whether it holds is told by verification: a second print, through the new curves.",
        2,
    ),
    Kind(
        TOTAL_INK,
        "Total ink",
        "How much ink this media holds in all.",
        "Rising sums of all inks, three colours and pairs are printed through the curves. The limit is the sum past which "
        "another 10 % of ink darkens by less than 0.3 L*. Judge pooling and drying by eye and lower it where needed.",
        1,
    ),
    Kind(
        PROFILE_CHART,
        "Profile chart",
        "The readings that the profile learns this print environment from.",
        "Printed through the curves with colour management off and everything else as frozen, read twice and compared. More "
        "patches describe the printer better and take longer to read. Averages are of spectra.",
        2,
    ),
    Kind(
        PROFILE,
        "Profile",
        "The ICC profile of this mode: separation and tables.",
        "A printer model is fitted to the averaged spectra, then inverted for every node of the tables. Black start is how "
        "dark a neutral is before black joins in; strength is how soon black takes over from the three colours.",
    ),
    Kind(
        CHECK,
        "Check",
        "Proof on a second print that the mode meets the aim.",
        "The control strip is sent through the profile to the aim's colours, printed, and read. This is verification: it is "
        "another print than the one the profile was made from. With a substrate-corrected aim the paper is left out.",
        1,
    ),
    Kind(
        RELEASE,
        "Release",
        "Into the library, for every operator of every site.",
        "The environment, limits, curves and profile become one print mode under one name. Its readings and checks stay with it.",
    ),
)
BY_NAME = {kind.name: kind for kind in KINDS}
