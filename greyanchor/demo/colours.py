"""The swatch books of the demo, and the places where its prints are looked at with more than a year of their
lights.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta

import numpy as np
from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.accounts.models import Site
from greyanchor.colours import books, lights, recipes
from greyanchor.colours.models import LightPlace, SwatchBook
from greyanchor.core.characterization.metamerism import printed
from greyanchor.core.colour.illuminants import cie_table, light
from greyanchor.core.colour.lighting import LightSpectrum, illuminance
from greyanchor.core.profiling.recipes import find_recipes
from greyanchor.core.simulation.booth import Booth, LightMeter
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import PrintMode
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.profiles.models import SpotRecord
from greyanchor.profiles.queries import model_of

_INSTRUMENT = "stand-in light meter LM-0340"
#: days ago, and hours that the tubes of the booth had burned
_VISITS = ((410, 100), (320, 1000), (230, 1900), (140, 2800), (60, 3600), (3, 4200))


def viewing_lights(users: Mapping[str, User]) -> None:
    """A booth whose tubes age until it fails, and a table beside a window."""
    if LightPlace.objects.exists():
        return
    booth = lights.add_place("Quay Street booth", _site("Quay Street"), "P1", 90, users["ines"])
    for visit, (days, hours) in enumerate(_VISITS):
        when = timezone.now() - timedelta(days=days)
        stood = Booth(hours=float(hours))
        made = lights.keep(booth, _seen(stood, 0, visit), _INSTRUMENT, users["ines"], when)
        made.around = [round(illuminance(_seen(stood, spot, visit)) or 0.0, 1) for spot in range(1, 5)]
        made.report = lights.report_of(made).as_dict()
        made.save()
    lights.control(booth, {"hours": float(_VISITS[-1][1])})
    table = lights.add_place("Lantern Hill table", _site("Lantern Hill"), "P2", 180, users["tobias"])
    lamp, day = light("LED-B2"), light("D50")
    power = 0.7 * lamp / lamp.max() + 0.3 * day / day.max()  # a lamp beside a window
    spectrum = LightSpectrum.of(table.name, cie_table()["nm"], power)
    lights.keep(
        table, spectrum, "file lantern-hill.csv", users["tobias"], timezone.now() - timedelta(days=150)
    )


def _site(name: str) -> Site:
    return Site.objects.filter(name=name).first() or Site.objects.earliest("pk")


def _seen(booth: Booth, spot: int, visit: int) -> LightSpectrum:
    nm, power = LightMeter().read(np.asarray(booth.power(spot)), (visit, spot))
    return LightSpectrum.of("Quay Street booth", nm, power, is_absolute=True)


#: what the house colours' spectra were read from, and the modes that have a swatch book
_READ_FROM = "Kelp Synthetic, deck charts"
_BOOKS = ("Harbour Proof, contract proof", "Fathom Satin, pilot book covers")


def swatch_books(users: Mapping[str, User]) -> None:
    """The house colours get spectra, and books on two modes: printed, read, learned from, printed again."""
    colours = list(SpotRecord.objects.order_by("name"))
    _give_spectra(colours)
    modes = [PrintMode.objects.select_related("profile").get(name=name) for name in _BOOKS]
    ines = users["ines"]
    for book in books.make(modes, colours, books.BookLayout(), ines, "House colours"):
        _printed_and_read(book, ines)
        recipes.learn(book.mode, books.recipes_in(book), ines)
        (second,) = books.make([book.mode], colours, books.BookLayout(), ines, "House colours")
        _printed_and_read(second, ines)
    recipes.put_into_mode(modes[0], recipes.newest(modes[0], colours).values(), ines)


def _give_spectra(colours: list[SpotRecord]) -> None:
    """Those that a mode of other inks prints are given what it reflects."""
    mode = PrintMode.objects.select_related("profile").get(name=_READ_FROM)
    profile = recipes.profile_of(mode)
    model = model_of(profile)
    found = find_recipes(model, recipes.separation_of(profile), np.array([c.colour.lab for c in colours]))
    seen = printed(model, found.inks, [c.name for c in colours])
    for colour, spectrum, out in zip(colours, seen.spectra, found.out_of_reach):
        if not out:
            colour.spectrum = [round(float(v), 6) for v in spectrum]
            colour.save()


def _printed_and_read(book: SwatchBook, user: User) -> None:
    when = timezone.now() - timedelta(days=2)
    job = print_sheet(book.sheet_print_id, user, when)
    for number in (1, 2):
        keep_whole_pass(job, careful_reading(job, number), "stand-in strip reader SR-1042", user)
    book.refresh_from_db()
