"""The made-up machines and media that stand in for a print room."""

from __future__ import annotations

from greyanchor.core.errors import BadInput
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.simulation.press import MediaModel, SimulatedPress

MEDIA = {
    m.name: m
    for m in (
        MediaModel(),
        MediaModel("Saltmarsh Cotton 310", 0.885, 0.10, 0.0, 1.16, 0.98, 2.35, 0.016, 0.007, 34.0),
        MediaModel("Kelp Synthetic 190", 0.915, 0.04, 0.03, 0.94, 0.94, 2.30, 0.007, 0.005, 40.0),
        MediaModel("Lightbox Film 175", 0.83, 0.03, 0.0, 0.92, 1.02, 2.45, 0.008, 0.005, 38.0),
        MediaModel("Thrift Bond 90", 0.86, 0.07, 0.11, 1.34, 0.78, 1.80, 0.022, 0.008, 32.0),
        MediaModel("Fathom Satin 260", 0.905, 0.05, 0.04, 0.98, 1.08, 2.75, 0.005, 0.004, 36.0),
        MediaModel("Chandler Canvas 380", 0.87, 0.09, 0.02, 1.22, 0.96, 2.30, 0.015, 0.007, 36.0),
        MediaModel("Breakwater Banner 440", 0.88, 0.04, 0.02, 1.05, 0.90, 2.20, 0.010, 0.007, 42.0),
        MediaModel("Gangway Mesh 270", 0.80, 0.05, 0.0, 1.10, 0.80, 1.90, 0.020, 0.012, 40.0),
        MediaModel("Tideline Matt 140", 0.895, 0.06, 0.07, 1.20, 0.92, 2.15, 0.018, 0.007, 34.0),
    )
}
INK_SETS = {"Petrel 44": "Tarn pigment", "Gannet 64": "Basalt UV", "Dunlin 24": "Tarn pigment"}
#: inks of other weights after C M Y K: name, place of the pigment, and strength
LIGHT_INKS = {
    "Tarn pigment light": (("LC", 0, 0.34), ("LM", 1, 0.37)),
    "Tarn pigment three weights": (("MC", 0, 0.5), ("LC", 0, 0.2), ("MM", 1, 0.5), ("LM", 1, 0.2)),
    "Tarn pigment two blacks": (("MK", 3, 1.0),),
}
#: inks beyond C, M, Y and K by ink set, and printers that part R, G and B among their inks themselves
EXTRA_INKS = {"Basalt UV seven": ("O", "G", "V"), "Basalt UV eight": ("O", "G", "V", "B")}
DRIVEN = ("Dunlin 24",)
WITH_WHITE = ("Basalt UV seven",)
OVERDRIVE = {"Petrel 44": 1.30, "Gannet 64": 1.38, "Dunlin 24": 1.22}
DEFAULT_MEDIA = "Harbour Proof Semimatt 235"


def press_for(environment: PrintEnvironment) -> SimulatedPress:
    """The stand-in printer that prints under `environment`; unknown media behave like the proofing paper."""
    media = MEDIA.get(environment.media) or MEDIA[DEFAULT_MEDIA]
    lights = LIGHT_INKS.get(environment.ink_set, ())
    return SimulatedPress(
        media,
        environment,
        OVERDRIVE.get(environment.printer, 1.30),
        lights=lights,
        extras=EXTRA_INKS.get(environment.ink_set, ()),
        driven=environment.printer in DRIVEN,
        white=environment.ink_set in WITH_WHITE,
    )


def pigments(printer: str) -> tuple[str, ...]:
    """Inks of a stand-in that can drift, of all sets that it runs."""
    maker = INK_SETS.get(printer, "Tarn").split()[0]
    return (*"CMYK", *dict.fromkeys(c for name, e in EXTRA_INKS.items() if name.startswith(maker) for c in e))


def slug(name: str) -> str:
    """`name` in lower case with hyphens, as the command takes it."""
    return "-".join(name.lower().split())


def press_by_name(name: str) -> SimulatedPress:
    """A stand-in by command-line name: ``petrel-44``, ``petrel-44/thrift-bond-90``, or with another ink
    set
    ``gannet-64/kelp-synthetic-190/basalt-uv-seven``.

    Raises `BadInput` that lists what there is.

    >>> press_by_name("petrel-44").channels
    ('C', 'M', 'Y', 'K')
    """
    printer_name, media_name, set_name = (*name.split("/"), "", "")[:3]
    printers = {slug(p): p for p in INK_SETS}
    media = {slug(m): m for m in MEDIA}
    if slug(printer_name) not in printers:
        raise BadInput(f"no stand-in printer called {printer_name!r}; there are {', '.join(printers)}")
    if media_name and slug(media_name) not in media:
        raise BadInput(f"no stand-in media called {media_name!r}; there are {', '.join(media)}")
    printer = printers[slug(printer_name)]
    sets = {slug(s): s for s in (*INK_SETS.values(), *EXTRA_INKS, *LIGHT_INKS)}
    if set_name and slug(set_name) not in sets:
        raise BadInput(f"no stand-in ink set called {set_name!r}; there are {', '.join(sets)}")
    chosen = MEDIA[media[slug(media_name)]] if media_name else MEDIA[DEFAULT_MEDIA]
    ink_set = sets[slug(set_name)] if set_name else INK_SETS[printer]
    environment = PrintEnvironment(printer, ink_set, chosen.name, heat=chosen.best_heat)
    return press_for(environment)
