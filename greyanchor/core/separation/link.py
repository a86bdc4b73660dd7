"""One conversion from the colour of a picture to what each ink of a mode prints.

Source profile, black point, intent, the mode's profile, its total ink, curves and light inks follow one
another once, here; `folded` makes the table that pictures go through.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.light_split import Split, split_channels
from greyanchor.core.colour.colorimetry import Array, lab_to_xyz, xyz_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.icc import PCS_WHITE, IccProfile
from greyanchor.core.separation.blackpoint import compensation, source_black, target_black
from greyanchor.core.separation.interpolation import apply_curves
from greyanchor.core.separation.profiles import ProfileColour

INTENTS = ("perceptual", "relative", "saturation", "absolute")
#: a nudge moves a middle tone no further, so that no tone scale turns round
MOST_LIGHTNESS, MOST_CONTRAST, MOST_INK = 20.0, 60.0, 0.20
_RAMP = 256
#: blacks that differ by less are taken for the same one, as colour engines do: no print hangs on
#: the last digit of a search
_NO_CHANGE = 0.002


@dataclass(frozen=True)
class Nudge:
    """A small change for one job.

    Attributes
    ----------
    lightness
        L* that a middle tone is lightened by, -20..20; white and black stay.
    contrast
        Percent by which the middle tones grow steeper, -60..60.
    inks
        By channel, what a half tone of it gains, as a fraction -0.2..0.2; paper and solid stay.
    """

    lightness: float = 0.0
    contrast: float = 0.0
    inks: Mapping[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        ranges = [
            ("lightness", self.lightness, MOST_LIGHTNESS, "L*"),
            ("contrast", self.contrast, MOST_CONTRAST, "%"),
            *((f"ink {c}", 100.0 * v, 100.0 * MOST_INK, "%") for c, v in self.inks.items()),
        ]
        for name, value, most, unit in ranges:
            if not abs(value) <= most:
                raise BadInput(f"a nudge of {name} by {value:g} {unit} lies outside -{most:g}..{most:g}")

    def __bool__(self) -> bool:
        return bool(self.lightness or self.contrast or any(self.inks.values()))

    def of_lab(self, lab: Array) -> Array:
        """Lab (n, 3) with the lightness and contrast of the nudge."""
        if not (self.lightness or self.contrast):
            return lab
        out = lab.copy()
        t = np.clip(lab[:, 0] / 100.0, 0.0, 1.0)
        steeper = -self.contrast * np.sin(2.0 * np.pi * t) / (2.0 * np.pi)
        out[:, 0] += 4.0 * self.lightness * t * (1.0 - t) + steeper
        return out

    def of_inks(self, device: Array, channels: Sequence[str]) -> Array:
        """Device values (n, channels) with single inks nudged. Raises `BadInput` for an ink that is not
        there.
        """
        unknown = sorted(set(self.inks) - set(channels))
        if unknown:
            raise BadInput(f"a nudge names the ink {unknown[0]}; the mode prints {' '.join(channels)}")
        gain = np.array([self.inks.get(c, 0.0) for c in channels])
        return device + 4.0 * gain * device * (1.0 - device) if gain.any() else device


@dataclass(frozen=True)
class PlaneInk:
    """White or varnish: an ink that no separation uses, printed as a plane of its own.

    Attributes
    ----------
    channel
        Its name.
    amount
        Raw amount where it is printed, fraction: its limit times the tone asked for.
    whole
        Whether it covers the whole page; else what has colour on it.
    """

    channel: str
    amount: float
    whole: bool = False

    def __post_init__(self) -> None:
        if not 0.0 < self.amount <= 1.0:
            raise BadInput(f"{self.channel} is printed with 1 to 100 %, not {100.0 * self.amount:g} %")


@dataclass(frozen=True)
class ModeInks:
    """What a mode does to the device values that its profile asks for.

    Attributes
    ----------
    profile
        The profile of the mode.
    curves
        Its linearization with the limits in it; None prints the profile's values as they are.
    splits
        How channels are shared with light inks.
    total
        The largest sum of device values, 1.0 for one full ink; None for no other limit than the profile's.
    planes
        White and varnish that are printed with the colours.
    """

    profile: IccProfile
    curves: CurveSet | None = None
    splits: tuple[Split, ...] = ()
    total: float | None = None
    planes: tuple[PlaneInk, ...] = ()

    def __post_init__(self) -> None:
        if self.curves is not None and self.curves.channels != self.channels:
            raise BadInput(
                f"the curves are of {' '.join(self.curves.channels)}, the profile prints "
                f"{' '.join(self.channels)}"
            )

    @property
    def channels(self) -> tuple[str, ...]:
        """Channels of the profile."""
        return self.profile.inks

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed: the channels, then the light inks."""
        return (*self.channels, *(s.light for s in self.splits))

    def limited(self, device: Array) -> Array:
        """Device values (n, channels) within 0..1 and the total ink."""
        values = np.clip(device, 0.0, 1.0)
        if self.total is not None and self.channels != tuple("RGB"):
            values = limit_total(values, self.channels, self.total)
        return values

    def printed(self, device: Array) -> Array:
        """Raw amounts (n, inks) for device values (n, channels), both fractions."""
        values = self.limited(device)
        if self.curves is not None:
            values = apply_curves(list(self.curves.outputs), values)
        return split_channels(values, self.channels, self.splits) if self.splits else values


def limit_total(device: Array, channels: Sequence[str], total: float) -> Array:
    """Device values (n, channels) whose sum is no more than `total`: black is held, the others give way."""
    over = device.sum(axis=1) > total
    if not over.any():
        return device
    out = device.copy()
    black = out[over, channels.index("K")] if "K" in channels else np.zeros(int(over.sum()))
    black = np.minimum(black, total)
    rest = out[over].sum(axis=1) - (out[over, channels.index("K")] if "K" in channels else 0.0)
    out[over] *= ((total - black) / np.maximum(rest, 1e-12))[:, None]
    if "K" in channels:
        out[over, channels.index("K")] = black
    return out


@dataclass(frozen=True)
class LinkSettings:
    """How the colours of a job are converted.

    Attributes
    ----------
    intent
        One of `INTENTS`.
    black_point
        Whether the source's black is laid onto the printer's (ISO 18619); an absolute conversion never does.
    keep_black
        Whether what is black ink alone stays black ink alone; in R G B, whether pure black is printed so.
    keep_pure
        Whether what is one of C, M, Y alone stays that ink alone.
    press
        A press that the job is printed as on: colours pass through its profile first.
    press_paper
        Whether that press's paper is printed too.
    nudge
        The job's own small change.
    """

    intent: str = "relative"
    black_point: bool = True
    keep_black: bool = False
    keep_pure: bool = False
    press: IccProfile | None = None
    press_paper: bool = False
    nudge: Nudge = Nudge()

    def __post_init__(self) -> None:
        if self.intent not in INTENTS:
            raise BadInput(f"no rendering intent {self.intent!r}; use one of {', '.join(INTENTS)}")


@dataclass(frozen=True)
class DeviceLink:
    """From source values to raw amounts of ink.

    Attributes
    ----------
    source
        Profile of the picture.
    mode
        What it is printed with.
    settings
        How.
    """

    source: ProfileColour
    mode: ModeInks
    settings: LinkSettings = LinkSettings()

    @property
    def source_channels(self) -> int:
        """Channels of the picture."""
        return self.source.channels

    @property
    def inks(self) -> tuple[str, ...]:
        """What is printed, one plane each."""
        return self.mode.inks

    @cached_property
    def target(self) -> ProfileColour:
        """The mode's profile."""
        return ProfileColour(self.mode.profile)

    def exact(self, values: Array) -> Array:
        """Raw amounts of ink (n, inks), fractions, for source values (n, channels), fractions."""
        return self.mode.printed(self.device(values))

    def device(self, values: Array) -> Array:
        """What the mode's profile is asked for (n, channels), within its total ink, before curves."""
        lab = self.settings.nudge.of_lab(self.asked_lab(values))
        intent = self.settings.intent
        device = self.settings.nudge.of_inks(self.target.from_lab(lab, intent), self.mode.channels)
        return self.mode.limited(device)

    def asked_lab(self, values: Array) -> Array:
        """PCS Lab (n, 3) that the mode's profile is asked for, relative to its paper."""
        xyz = self.source.to_xyz(values, self.settings.intent)
        for number in range(len(self._steps)):
            xyz = self._step(xyz, number)
        return xyz_to_lab(100.0 * xyz)

    @property
    def last_step(self) -> tuple[Array, Array]:
        """Scale and offset of XYZ between what is printed from and the printer."""
        return self._steps[-1][:2]

    def press_lab(self, values: Array) -> Array:
        """Media-relative Lab (n, 3) of the press that source values (n, channels) are printed as on."""
        assert self._steps[0][2] is not None
        return xyz_to_lab(100.0 * self._step(self.source.to_xyz(values, self.settings.intent), 0))

    def _step(self, xyz: Array, number: int) -> Array:
        factor, offset, reached = self._steps[number]
        xyz = xyz * factor + offset
        if reached is None:
            return np.asarray(xyz)
        return reached.to_xyz(reached.from_lab(xyz_to_lab(100.0 * xyz), "relative"), "relative")

    @cached_property
    def _steps(self) -> list[tuple[Array, Array, ProfileColour | None]]:
        """Scales and offsets of XYZ on the way from the source to the printer, and the press between them."""
        if self.settings.press is None:
            return [(*self._between(self.source, self.target, self.settings.intent), None)]
        press = ProfileColour(self.settings.press)
        last = "absolute" if self.settings.press_paper else "relative"
        return [
            (*self._between(self.source, press, "relative"), press),
            (*self._between(press, self.target, last), None),
        ]

    def _between(self, first: ProfileColour, second: ProfileColour, intent: str) -> tuple[Array, Array]:
        if intent == "absolute":
            return first.white / second.white, np.zeros(3)
        always = second.profile.version[0] >= 4 and intent in ("perceptual", "saturation")
        if not (self.settings.black_point or always):
            return np.ones(3), np.zeros(3)
        found = compensation(source_black(first.tables, intent), target_black(second.tables, intent))
        if np.abs(found[0] - 1.0).sum() + 0.5 * np.abs(found[1]).sum() < _NO_CHANGE:
            return np.ones(3), np.zeros(3)
        return found

    def pure_ramps(self) -> dict[int, Array]:
        """For each source channel that is kept pure: raw amounts (256, inks) along its own ramp.

        An R G B or grey picture has one such ramp, of channel -1: pure black.
        """
        kept: dict[int, Array] = {}
        names = self.source.profile.inks
        wanted = ("K" if self.settings.keep_black else "") + ("CMY" if self.settings.keep_pure else "")
        if self.source.profile.space == "CMYK":
            for i, name in enumerate(names):
                if name in wanted and name in self.mode.channels:
                    kept[i] = self._pure(i, self.mode.channels.index(name))
        elif self.settings.keep_black and "K" in self.mode.channels:
            solid = np.zeros((1, len(self.mode.channels)))
            solid[0, self.mode.channels.index("K")] = 1.0
            kept[-1] = self.mode.printed(solid)
        return kept

    def _pure(self, channel: int, own: int) -> Array:
        """One ink alone, at the tone of that ink of the printer that looks most like the source's."""
        ramp = np.zeros((_RAMP, self.source.channels))
        ramp[:, channel] = np.linspace(0.0, 1.0, _RAMP)
        asked = self.settings.nudge.of_lab(self.asked_lab(ramp))
        steps = np.linspace(0.0, 1.0, 4 * _RAMP)
        alone = np.zeros((len(steps), len(self.mode.channels)))
        alone[:, own] = steps
        printed = xyz_to_lab(100.0 * self.target.to_xyz(alone, "relative"))
        if self.mode.channels[own] == "K":
            tone = np.interp(-asked[:, 0], np.maximum.accumulate(-printed[:, 0]), steps)
        else:
            off = ((asked[:, None] - printed[None]) ** 2).sum(axis=2)
            tone = np.maximum.accumulate(steps[off.argmin(axis=1)])
        tone[0] = 0.0
        device = np.zeros((_RAMP, len(self.mode.channels)))
        device[:, own] = tone
        return self.mode.printed(self.settings.nudge.of_inks(device, self.mode.channels))


def on_paper(lab: Array, white: Array) -> Array:
    """Absolute Lab (n, 3) of media-relative Lab (n, 3) on a paper `white`, XYZ with Y = 1."""
    return xyz_to_lab(lab_to_xyz(lab) * (white / PCS_WHITE))
