"""Demo data of the shared library: machines, media, presets, and a day of its readiness."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User

from greyanchor.accounts.models import Membership, Site
from greyanchor.core.packs import Archive, dump_pack, write_archive
from greyanchor.core.printing.families import guess_family, starting_values
from greyanchor.library.machines import controls, readiness, slots
from greyanchor.library.models import (
    InkSet,
    Media,
    MediaClass,
    MediaPreset,
    PackImport,
    Printer,
    PrintMode,
)
from greyanchor.library.modes.services import set_pin
from greyanchor.library.packs import importing
from greyanchor.library.packs.builder import Label, pack_modes
from greyanchor.library.records.editing import create

#: of a litre of any ink
_PRICE = 118.0
# name, class, maker, g/m2, micrometres, mm, brightener, backwards, dry-down, heat, vacuum
_MEDIA: list[tuple[str, str, str, int, int, int, str, bool, int, float, float]] = [
    (
        "Harbour Proof Semimatt 235",
        "coated proofing paper",
        "Wherry Mill",
        235,
        240,
        1118,
        "faint",
        True,
        30,
        36,
        50,
    ),
    (
        "Saltmarsh Cotton 310",
        "uncoated cotton paper",
        "Wherry Mill",
        310,
        480,
        1118,
        "none",
        True,
        60,
        34,
        40,
    ),
    (
        "Kelp Synthetic 190",
        "synthetic chart paper",
        "Sound & Shoal",
        190,
        210,
        1067,
        "faint",
        True,
        45,
        40,
        60,
    ),
    ("Lightbox Film 175", "backlit film", "Sound & Shoal", 175, 205, 1270, "none", True, 60, 38, 45),
    ("Thrift Bond 90", "uncoated bond paper", "Causeway Papers", 90, 110, 914, "high", False, 15, 32, 65),
    ("Fathom Satin 260", "coated photo paper", "Wherry Mill", 260, 255, 1118, "faint", True, 30, 36, 50),
    ("Chandler Canvas 380", "canvas", "Causeway Papers", 380, 520, 1524, "faint", True, 120, 36, 55),
    ("Breakwater Banner 440", "banner", "Sound & Shoal", 440, 460, 1600, "faint", True, 90, 42, 60),
    ("Gangway Mesh 270", "mesh banner", "Sound & Shoal", 270, 350, 1600, "none", True, 60, 40, 35),
    ("Tideline Matt 140", "coated paper", "Causeway Papers", 140, 175, 1067, "moderate", True, 30, 34, 50),
    ("Clearwater Film 125", "clear film", "Sound & Shoal", 165, 125, 914, "none", True, 20, 38, 80),
]

Range = tuple[float, float, float, float]
# low, high, step, usual
_AQUEOUS: dict[str, Range] = {
    "vacuum": (0, 100, 5, 50),
    "roller_pressure": (10, 40, 5, 25),
    "head_height": (1.2, 2.8, 0.2, 1.6),
    "heat_on": (20, 55, 1, 34),
    "heat_after": (20, 70, 1, 40),
    "pass_pause": (0, 3, 0.1, 0),
    "sheet_pause": (0, 600, 10, 0),
    "feed": (-1, 1, 0.01, 0),
    "alignment": (-200, 200, 5, 0),
    "overprints": (1, 2, 1, 1),
    "cleaning": (0, 100, 1, 20),
    "wiping": (0, 40, 1, 10),
    "margin_side": (3, 60, 1, 5),
    "margin_top": (5, 100, 1, 20),
    "margin_end": (5, 100, 1, 20),
}
_CURED: dict[str, Range] = {
    **_AQUEOUS,
    "roller_pressure": (10, 60, 5, 30),
    "head_height": (1.4, 5, 0.1, 1.8),
    "heat_before": (20, 60, 1, 30),
    "heat_on": (20, 70, 1, 38),
    "lamp_power": (20, 100, 1, 70),
    "overprints": (1, 4, 1, 1),
    "cut_force": (20, 500, 5, 140),
    "cut_speed": (20, 700, 10, 300),
    "cut_passes": (1, 4, 1, 1),
    "cut_offset": (-1, 1, 0.01, 0),
}
_DRIVEN = {
    k: _AQUEOUS[k] for k in ("vacuum", "head_height", "feed", "alignment", "sheet_pause", "margin_side")
}
_DRIVERS = {"Dunlin 24": {"media": ["Photo satin", "Photo matt", "Plain"], "quality": ["Fine", "Standard"]}}
_MACHINES: dict[str, tuple[dict[str, Range], dict[str, float]]] = {
    "Petrel 44": (_AQUEOUS, {"swath": 54.0, "fastest": 1100.0, "firing": 24.0, "turn": 0.3}),
    "Gannet 64": (_CURED, {"swath": 72.0, "fastest": 1400.0, "firing": 30.0, "turn": 0.3}),
    "Dunlin 24": (_DRIVEN, {"swath": 25.0, "fastest": 900.0, "firing": 18.0, "turn": 0.25}),
}


def machines_and_media(by: User) -> None:
    """Sites, inks, printers with what they can do, media classes with starting values, media and presets."""
    quay, lantern = Site.objects.create(name="Quay Street"), Site.objects.create(name="Lantern Hill")

    def keep(record: Any) -> Any:
        return create(record, by, "put into the library")

    def inks(
        name: str, channels: str, kind: str, facts: dict[str, dict[str, str]] | None = None, **light: str
    ) -> int:
        made = InkSet(
            name=name, channels=list(channels), kind=kind, light=light, facts=facts or {}, price=_PRICE
        )
        return int(keep(made).pk)

    tarn = [
        inks("Tarn pigment", "CMYK", "aqueous pigment"),
        inks("Tarn pigment light", "CMYK", "aqueous pigment, light inks", LC="C", LM="M"),
        inks(
            "Tarn pigment three weights",
            "CMYK",
            "aqueous pigment, cyan and magenta in three weights",
            MC="C",
            LC="MC",
            MM="M",
            LM="MM",
        ),
        inks(
            "Tarn pigment, films",
            "K",
            "aqueous pigment, black with yellow for films",
            {"K": {"role": "film"}, "Y": {"role": "opacity"}},
            Y="K",
        ),
    ]
    basalt = [
        inks("Basalt UV", "CMYK", "UV-cured, process inks only"),
        inks(
            "Basalt UV seven",
            "CMYKOGV",
            "UV-cured with orange, green, violet and white",
            {"W": {"role": "white", "place": "under"}},
        ),
    ]
    photo = [inks("Tarn photo", "RGB", "aqueous, separated by the printer's own driver")]
    printers = []
    for name, site, serial, width, resolutions, passes, runs, driven in (
        ("Petrel 44", quay, "PT44-0117", 1118, [600, 1200, 1440, 2400], [6, 8, 12, 16], tarn, "channels"),
        ("Gannet 64", lantern, "GN64-0042", 1626, [600, 1200], [4, 6, 8, 12], basalt, "channels"),
        ("Dunlin 24", lantern, "DL24-2210", 610, [1200, 2400], [8, 16], photo, "R G B, by its own driver"),
    ):
        abilities, carriage = _MACHINES[name]
        printer = Printer(
            name=name,
            model=name,
            site=site,
            serial=serial,
            width_mm=width,
            resolutions=resolutions,
            passes=passes,
            driven_as=driven,
            carriage=carriage,
            driver=_DRIVERS.get(name, {}),
            abilities={k: dict(zip(("low", "high", "step", "usual"), v)) for k, v in abilities.items()},
        )
        printer.wanted_links = {"ink_sets": runs}  # type: ignore[attr-defined]
        printers.append(keep(printer))
    for name, group, maker, weight, thickness, width, brightener, backwards, dry, heat, vacuum in _MEDIA:
        media = keep(
            Media(
                name=name,
                media_class=_class(group, by),
                maker=maker,
                weight=weight,
                thickness=thickness,
                width_mm=width,
                brightener=brightener,
                travels_backwards=backwards,
                dry_minutes=dry,
                unreadable="Mesh" in name,
                price=round(1.2 + 0.011 * weight, 2),
            )
        )
        for printer in printers[:2]:
            if width <= printer.width_mm:
                keep(
                    MediaPreset(
                        name=f"{name} on {printer.model}",
                        media=media,
                        printer_model=printer.model,
                        handling={"heat_on": heat, "vacuum": vacuum},
                        made_by=by,
                    )
                )


def _class(name: str, by: User) -> MediaClass:
    """A media class with the starting values of its family."""
    found = MediaClass.objects.filter(name=name).first()
    if found:
        return found
    family = guess_family(name)
    starts = starting_values(family)
    made = MediaClass(
        name=name,
        family=family,
        handling={k: s.value for k, s in starts.items()},
        reasons={k: s.reason for k, s in starts.items()},
    )
    create(made, by, f"starting values of {made.get_family_display()}")
    return made


def memberships(users: dict[str, User], sites: dict[str, str]) -> None:
    """Where each person works."""
    for username, site in sites.items():
        Membership.objects.get_or_create(user=users[username], defaults={"site": Site.objects.get(name=site)})


def seed(users: dict[str, User]) -> None:
    """A day of readiness: pins, readiness, slots with a value tuned at the machine, and a supplier's
    catalogue.
    """
    ines, tobias = users["ines"], users["tobias"]
    proof, deck = (
        PrintMode.objects.get(name="Harbour Proof, contract proof"),
        PrintMode.objects.get(name="Kelp Synthetic, deck charts"),
    )
    set_pin(proof, ines, False, True)
    set_pin(deck, tobias, True, True)
    set_pin(proof, users["ada"], False, True)
    _readiness(ines, tobias)
    slots.send(proof.printer_id, 1, proof, ines)
    slots.send(deck.printer_id, 1, deck, tobias)
    slots.send(deck.printer_id, 2, MediaPreset.objects.get(name="Breakwater Banner 440 on Gannet 64"), tobias)
    controls.tune(deck.printer, 1, "vacuum", 70.0)
    _catalogue(proof, deck, tobias)


def _readiness(ines: User, tobias: User) -> None:
    petrel, gannet = Printer.objects.get(name="Petrel 44"), Printer.objects.get(name="Gannet 64")
    petrel = readiness.load_media(petrel.pk, Media.objects.get(name="Harbour Proof Semimatt 235"), ines)
    gannet = readiness.load_media(gannet.pk, Media.objects.get(name="Kelp Synthetic 190"), tobias)
    for printer, user, keys in (
        (petrel, ines, ("nozzles", "alignment", "feed")),
        (gannet, tobias, ("alignment",)),
    ):
        for key in keys:
            _ready(printer, key, user)


def _ready(printer: Printer, key: str, user: User) -> None:
    """Print a pattern and read it, around the best step while that is the last."""
    around: float | None = None
    for _ in range(6):
        made = readiness.print_pattern(printer, key, user, around)
        try:
            done = readiness.judge_by_reading(made.pk, user)
        except ValueError:
            misfit = [abs(v) for v in made.pattern["misfit"]]
            around = made.pattern["values"][misfit.index(min(misfit))]
            continue
        if done.good:
            return


def catalogue_folder() -> Path:
    """Where the stand-in of the supplier's catalogue keeps its packs."""
    return Path(settings.HOME) / "catalogue"


def _catalogue(proof: PrintMode, deck: PrintMode, user: User) -> None:
    """Packs of a supplier, made from what builds has built here, and one of them imported in its first
    version.
    """
    folder = catalogue_folder()
    folder.mkdir(parents=True, exist_ok=True)
    cotton = PrintMode.objects.get(name="Saltmarsh Cotton, archive charts")
    for mode, key, maker, version, group, note in (
        (proof, "harbour-proof-petrel", "Wherry Mill", "1.0", "semimatt proofing", "For contract proofs."),
        (
            deck,
            "kelp-gannet",
            "Sound & Shoal",
            "1.0",
            "synthetic chart paper",
            "First setting for deck charts.",
        ),
        (
            deck,
            "kelp-gannet",
            "Sound & Shoal",
            "1.1",
            "synthetic chart paper",
            "More heat after the platen: the first setting stayed tacky in damp rooms.",
        ),
        (cotton, "saltmarsh-petrel", "Wherry Mill", "2.0", "uncoated cotton paper", "For archive charts."),
    ):
        (folder / f"{key}-{version}.zip").write_bytes(supplied_pack(mode, key, maker, version, group, note))
    data = (folder / "kelp-gannet-1.0.zip").read_bytes()
    job = importing.receive("Kelp Synthetic 190 for the Gannet 64 1.0", [data], user, ("kelp-gannet", "1.0"))
    for _ in range(2):
        importing.carry_on(job.pk)
        job.refresh_from_db()
        if job.is_decidable:
            importing.decide(job.pk, {"state": "review"}, user)
    PackImport.objects.filter(pk=job.pk, step=PackImport.Step.DONE).update(state=PackImport.State.DONE)


def supplied_pack(mode: PrintMode, key: str, maker: str, version: str, group: str, note: str) -> bytes:
    """A mode as its media's supplier would pack it: under their own names, with their class."""
    out = io.BytesIO()
    pack_modes(
        [mode.pk], Label(f"{mode.media.name} for the {mode.printer.model}", maker, key, version, note), out
    )
    with Archive(out.getvalue()) as archive:
        facts: dict[str, Any] = json.loads(archive.read("manifest.json"))
        contents: dict[str, bytes] = {n: archive.read(n) for n in archive.names() if n != "manifest.json"}
    facts.pop("files")
    ours = facts["media_classes"][0]["name"]
    facts["media_classes"][0]["name"] = group
    for media in facts["media"]:
        media["media_class"] = group if media["media_class"] == ours else media["media_class"]
    packed = facts["modes"][0]
    packed["name"] = f"{mode.media.name}, supplier's setting"
    packed["preset"] = None
    facts["presets"] = []
    if version != "1.0":
        packed["handling"] = {**packed["handling"], "heat_after": 46.0}
    files: dict[str, Callable[[], bytes]] = {n: partial(bytes, d) for n, d in contents.items()}
    made = io.BytesIO()
    write_archive(made, dump_pack(facts, files))
    return made.getvalue()
