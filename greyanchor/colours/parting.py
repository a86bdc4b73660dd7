"""Two sets of colours under several lights: modes, checks, aims and spot colours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from greyanchor.checks.models import Check
from greyanchor.colours.models import LightPlace
from greyanchor.colours.recipes import profile_of, separation_of
from greyanchor.core.characterization.metamerism import Coloured, Parting, part_company, printed
from greyanchor.core.colour.brightener import Brightened, brightener_of, share_in, share_of
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.colour.illuminants import FIXED_LIGHTS, Light, MeasuredLight
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.profiling.recipes import find_recipes, within_sums
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import AimRecord, SpotLibrary, SpotRecord
from greyanchor.profiles.queries import aim_of, model_of

#: colours that a mode is asked for at once
_MOST = 240
#: dE00 under D50 past which a mode's colour is another one, and says nothing of lights
_MATCH = 1.0
CIE = ("D65", "A", *(name for name in FIXED_LIGHTS if name in ("F2", "F7", "F11", "LED-B3", "LED-B5")))
USUAL = ("D65", "A", "F11", "LED-B3")


@dataclass(frozen=True)
class Source:
    """What is compared: colours with spectra, or a mode that can print them.

    Attributes
    ----------
    title
        In words.
    colours
        With a name each; None for a mode.
    keys
        What a colour is found by on the other side: its name, or its device values.
    mode
        A mode, which prints the other side's colours.
    white
        Reflectance of its paper (36,), where there is one, and the condition it was read under.
    """

    title: str
    colours: Coloured | None
    keys: tuple[Any, ...] = ()
    mode: PrintMode | None = None
    white: np.ndarray | None = None
    condition: str = "M1"


def source(text: str) -> Source:
    """By its address: ``mode-3``, ``check-12``, ``aim-2``, ``spot-7`` or ``book-1``.

    Raises `BadInput` for what is not there, or has no spectra.
    """
    kind, _, number = text.partition("-")
    if not number.isdecimal():
        raise BadInput("choose what to compare")
    pk = int(number)
    if kind == "mode":
        mode = PrintMode.objects.select_related("profile").filter(pk=pk).first()
        if mode is None:
            raise BadInput("that print mode is not there any more")
        model = model_of(profile_of(mode))
        paper = printed(model, np.zeros((1, len(model.channels))), [""])
        return Source(mode.name, None, mode=mode, white=paper.spectra[0])
    if kind == "check":
        check = Check.objects.select_related("mode").filter(pk=pk).first()
        if check is None:
            raise BadInput("that check is not there any more")
        title = f"check of {check.title}, {check.made_at:%-d %b %Y}"
        return _measured(title, cgats.loads(check.readings, check.title))
    if kind == "aim":
        record = AimRecord.objects.filter(pk=pk).defer("data").first()
        data = aim_of(record).data if record else None
        if record is None or data is None:
            raise BadInput("that aim holds no characterization data, so nothing is known of its spectra")
        return _measured(str(record), data)
    rows = SpotRecord.objects.filter(pk=pk) if kind == "spot" else SpotRecord.objects.filter(library=pk)
    known = [r for r in rows if r.spectrum][:_MOST]
    of = SpotLibrary.objects.filter(pk=pk).first() if kind == "book" else rows.first()
    if not known:
        raise BadInput(f"no spectrum is known of {of or 'these colours'}; import one, or keep a reading")
    names = tuple(r.name for r in known)
    return Source(str(of), Coloured(names, np.array([r.spectrum for r in known])), names)


def _measured(title: str, readings: ReadingSet) -> Source:
    if readings.spectra is None:
        raise BadInput(f"{title} holds colours without spectra; under other lights nothing is known of them")
    names = readings.names or ("",) * len(readings)
    keys: list[Any] = []
    shown = []
    for i, name in enumerate(names):
        inks = () if readings.device is None else tuple(np.round(100.0 * readings.device[i], 1))
        keys.append(name or inks or readings.ids[i])
        amounts = " ".join(f"{c}{v:.0f}" for c, v in zip(readings.channels, inks) if v >= 0.5)
        shown.append(name or amounts or ("paper" if inks else readings.ids[i]))
    white = None
    if readings.device is not None:
        bare = np.flatnonzero(readings.device.sum(axis=1) < 1e-6)
        white = readings.spectra[bare].mean(axis=0) if len(bare) else None
    return Source(
        title, Coloured(tuple(shown), readings.spectra), tuple(keys), None, white, readings.condition
    )


def paired(a: Source, b: Source) -> tuple[Coloured, Coloured]:
    """Colours of both sides that belong together.

    A mode prints the other side's colours by its best recipes; those that it does not match under D50 within
    1 dE00 are left out. Two modes are held together by 125 colours that the first prints.
    """
    if a.colours is None and b.colours is None:
        assert a.mode is not None
        return _as_printed(_sample(a.mode), b)
    if b.colours is None:
        assert a.colours is not None
        return _as_printed(a.colours, b)
    if a.colours is None:
        first, second = _as_printed(b.colours, a)
        return second, first
    if len(a.keys) == len(b.keys) == 1:
        return a.colours, b.colours
    there = {key: j for j, key in reversed(list(enumerate(b.keys)))}
    both = [(i, there[key]) for i, key in enumerate(a.keys) if key in there]
    if not both:
        raise BadInput(f"{a.title} and {b.title} have no patch in common")
    return a.colours.part([i for i, _ in both]), b.colours.part([j for _, j in both])


def _sample(mode: PrintMode) -> Coloured:
    profile = profile_of(mode)
    model, separation = model_of(profile), separation_of(profile)
    levels = (0.0, 0.25, 0.5, 0.75, 1.0)
    grid = np.stack(np.meshgrid(levels, levels, levels, indexing="ij"), axis=-1).reshape(-1, 3)
    count = len(model.channels)
    inks = np.zeros((len(grid), count))
    inks[:, : min(3, count)] = grid[:, : min(3, count)]
    inks = within_sums(inks * separation.tops(model.channels), *separation.sums(model.channels))
    inks = np.unique(inks, axis=0)
    names = [
        " ".join(f"{c}{100 * v:.0f}" for c, v in zip(model.channels, row) if v >= 0.005) or "paper"
        for row in inks
    ]
    return printed(model, inks, names)


def _as_printed(colours: Coloured, by: Source) -> tuple[Coloured, Coloured]:
    assert by.mode is not None
    profile = profile_of(by.mode)
    model = model_of(profile)
    if len(colours.names) > _MOST:
        colours = colours.part(np.linspace(0, len(colours.names) - 1, _MOST).round())
    lab = colours.under("D50")
    found = find_recipes(model, separation_of(profile), lab)
    near = np.flatnonzero(delta_e_2000(lab, found.lab) <= _MATCH)
    if not len(near):
        raise BadInput(f"{by.mode.name} prints none of these colours within {_MATCH:g} dE00 under D50")
    return colours.part(near), printed(model, found.inks[near], [colours.names[i] for i in near])


def light_named(text: str) -> Light:
    """A light by its address: a CIE name, or ``place-3``."""
    kind, _, number = text.partition("-")
    if kind != "place" or not number.isdecimal():
        return text
    place = LightPlace.objects.filter(pk=int(number)).first()
    last = place.newest if place else None
    if place is None or last is None:
        raise BadInput("that place was not measured yet")
    return MeasuredLight(place.name, last.spectrum.measured.power)


def chosen(lights: Sequence[str]) -> list[Light]:
    """The lights of an address, D50 before all."""
    return ["D50", *(light_named(x) for x in lights if x != "D50")]


def parting(a: Source, b: Source, lights: Sequence[str]) -> tuple[Coloured, Coloured, Parting]:
    """Both sides' pairs, and how they part under lights; D50 always comes first."""
    first, second = paired(a, b)
    return (
        first,
        second,
        part_company(first, second, ["D50", *(light_named(x) for x in lights if x != "D50")]),
    )


# --- brightener ----------------------------------------------------------------------------------


@dataclass(frozen=True)
class PaperUnder:
    """The white of a paper under one condition or in one place; `lab` is None where it is not known."""

    where: str
    lab: tuple[float, float, float] | None
    away: float | None


def papers(found: Source) -> tuple[Brightened | None, list[PaperUnder]]:
    """The white of a source's paper under M0, M1, M2 and in each place, by its brightener as estimated."""
    if found.white is None:
        return None, []
    bright = brightener_of(found.white, found.condition)
    if bright is None:
        return None, []
    usual = bright.under(1.0)
    shares: list[tuple[str, float | None]] = [(c, share_of(c)) for c in ("M0", "M1", "M2")]
    for place in LightPlace.objects.all():
        last = place.newest
        if last is not None:
            shares.append((place.name, share_in(last.spectrum)))
    rows = []
    for where, share in shares:
        if share is None:
            rows.append(PaperUnder(where, None, None))
            continue
        lab = bright.under(share)
        values = (float(lab[0]), float(lab[1]), float(lab[2]))
        rows.append(PaperUnder(where, values, float(delta_e_2000(lab, usual))))
    return bright, rows
