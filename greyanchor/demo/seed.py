"""Demo data: Northlight Chart House, a made-up publisher of nautical charts with two print rooms.

Everything is computed by the engine through the stand-in devices; only names and choices are typed in.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from functools import partial

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.builds.lifecycle.start import derive_faster, start_build
from greyanchor.builds.maintenance.restores import print_confirmation, start_restore, use_curves
from greyanchor.builds.stages import names
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.formats import cgats
from greyanchor.core.profiling.build import build_profile
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.core.verification.generic_aims import COATED, aim_data
from greyanchor.demo import library, printroom, proof
from greyanchor.demo.accounts import ACCOUNTS, people
from greyanchor.demo.builds import CREATED, Plan, carry_out, handling_choices
from greyanchor.demo.colours import swatch_books, viewing_lights
from greyanchor.demo.devices import connect_all
from greyanchor.demo.devices import drift as let_drift
from greyanchor.demo.fleet import fleet
from greyanchor.demo.prints import read_print
from greyanchor.library.models import Media, MediaClass, Printer, PrintMode
from greyanchor.library.modes.fallbacks import set_fallback
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import settings_from

_PLANS = (
    Plan(
        "Harbour Proof, contract proof", "Petrel 44", "Harbour Proof Semimatt 235", 8, "released", 500, True
    ),
    Plan("Fathom Satin, pilot book covers", "Petrel 44", "Fathom Satin 260", 8, "released"),
    Plan("Saltmarsh Cotton, archive charts", "Petrel 44", "Saltmarsh Cotton 310", 12, "released"),
    Plan(
        "Harbour Proof, grey-balanced", "Petrel 44", "Harbour Proof Semimatt 235", 12, "released", greys=True
    ),
    Plan("Kelp Synthetic, deck charts", "Gannet 64", "Kelp Synthetic 190", 8, "released"),
    Plan("Breakwater Banner, quay signs", "Gannet 64", "Breakwater Banner 440", 6, "ready"),
    Plan("Thrift Bond, harbour plan drafts", "Petrel 44", "Thrift Bond 90", 6, "ready"),
    Plan(
        "Tideline Matt, tide tables",
        "Petrel 44",
        "Tideline Matt 140",
        6,
        "released",
        retire="replaced by the 8 pass mode",
    ),
    Plan(
        "Kelp Synthetic, seven inks",
        "Gannet 64",
        "Kelp Synthetic 190",
        8,
        "released",
        700,
        inks="Basalt UV seven",
    ),
    Plan("Fathom Satin, photographs", "Dunlin 24", "Fathom Satin 260", 16, "released", 400),
    Plan(
        "Clearwater Film, 60 lines",
        "Petrel 44",
        "Clearwater Film 125",
        8,
        "released",
        inks="Tarn pigment, films",
        screen="am:lpi=60,dot=round",
        resolution=1440,
    ),
    Plan("Tideline Matt, tide tables 8 pass", "Petrel 44", "Tideline Matt 140", 8, names.PROFILE),
    Plan("Lightbox Film, harbour panorama", "Gannet 64", "Lightbox Film 175", 12, names.PROFILE_CHART),
    Plan("Kelp Synthetic, fast deck charts", "Gannet 64", "Kelp Synthetic 190", 4, names.TOTAL_INK),
    Plan("Fathom Satin, proofs both ways", "Petrel 44", "Fathom Satin 260", 6, names.LINEARIZATION),
    Plan("Chandler Canvas, wall charts", "Petrel 44", "Chandler Canvas 380", 8, names.INK_LIMITS),
)


def is_seeded() -> bool:
    """Whether the demo data are there."""
    return PrintMode.objects.filter(name="Gangway Mesh, pier banners").exists()


def seed(say: Callable[[str], None]) -> None:
    """Make the whole demo library in one transaction: all of it, or nothing."""
    with transaction.atomic():
        users = people_and_machines()
        aim = northlight_coated()
        for plan in _PLANS:
            say(f"{plan.name} ({plan.printer}, {plan.passes} passes)")
            carry_out(plan, users, aim.pk)
        say("restores, a faster mode, and what a class lends")
        _keep_true(users)
        _branch_and_lend(users)
        say("a profile of black alone, and viewing lights")
        _other_kinds(users)
        viewing_lights(users)
        say("proof: spot colours, own tolerances, twelve weeks of checks, a schedule")
        proof.seed(users, aim)
        say("swatch books on two modes, read and learned from")
        swatch_books(users)
        say("the shared library: editions, pins, readiness, slots, the supplier's catalogue")
        library.seed(users)
        say("the print room: artwork, jobs, runs, twelve weeks of prints")
        printroom.seed(users, aim)
        say("nights, a family of two sites, and what was swapped")
        fleet(users, aim)


def northlight_coated() -> AimRecord:
    """The publisher's own aim: the generic coated condition under its own name; made on first use."""
    name = "Northlight Coated"
    found = AimRecord.objects.filter(name=name).first()
    if found is not None:
        return found
    data = replace(aim_data(), meta={**aim_data().meta, "DESCRIPTOR": name})
    return AimRecord.objects.create(
        name=name, source=COATED.derivation[:300], data=cgats.dumps(data).encode()
    )


def people_and_machines() -> dict[str, User]:
    """The people, machines and media of the demo, before any work."""
    users = people()
    library.machines_and_media(users["ines"])
    connect_all()
    library.memberships(users, {a.username: a.site for a in ACCOUNTS})
    return users


def _other_kinds(users: dict[str, User]) -> None:
    """Profiles of printers that have no log here, built from readings of their charts."""
    for title, printer, channels, patches in (
        ("Petrel 44 black alone, tide tables", "petrel-44/tideline-matt-140", ("K",), 64),
    ):
        press, total = press_by_name(printer), min(3.0, float(len(channels)))
        chart, _ = lay_out(design("profile", channels, patches, total), channels, shuffle_seed=3)
        readings = print_and_read(chart, press, 5, pipeline=partial(_within, press, channels))
        options = {
            "total_ink": 100.0 * total,
            "black_start": 25.0,
            "black_strength": 50.0,
            "max_black": 100.0,
            "width": 100.0,
            "handover": 50.0,
            "title": title,
            "version": 4,
            "quality": "draft",
        }
        result = build_profile(
            readings, replace(settings_from(options, title, len(channels)), created=CREATED)
        )
        keep_profile(result, title, 4, options, {"from": "readings of its own chart"}, users["tobias"])


def _within(press: SimulatedPress, channels: tuple[str, ...], values: Array) -> Array:
    """Raw values of a printer whose own limits were set before: inks to three quarters, pictures as they
    are.
    """
    return press.as_raw(values if press.driven else 0.75 * values, channels)


def _keep_true(users: dict[str, User]) -> None:
    """Three months of a machine that drifts, and was brought back each time."""
    for name, steps in _DRIFTS.items():
        _drift_and_restore(name, steps, users["ines"])


#: ink volumes by days since the baseline, by mode
_DRIFTS: dict[str, tuple[tuple[int, dict[str, float]], ...]] = {
    _PLANS[0].name: (
        (30, {"C": 1.06}),
        (61, {"C": 1.12, "M": 0.95}),
        (90, {}),  # its heads were replaced
    ),
    "Kelp Synthetic, seven inks": ((45, {"O": 0.92, "M": 1.08}),),
    "Fathom Satin, photographs": ((52, {"C": 1.06, "M": 0.95}),),
    "Clearwater Film, 60 lines": ((48, {"K": 0.94, "Y": 0.97}),),
}


def _drift_and_restore(name: str, steps: tuple[tuple[int, dict[str, float]], ...], user: User) -> None:
    mode = PrintMode.objects.select_related("printer", "media", "ink_set").get(name=name)
    taken = timezone.now() - timedelta(days=92)
    type(mode.baseline).objects.filter(mode=mode).update(taken_at=taken)
    for days, drift in steps:
        let_drift(mode.printer, drift)
        mode.refresh_from_db()
        found = start_restore(mode, user)
        read_print(found.sheet_print, 2, user)
        found.refresh_from_db()
        read_print(print_confirmation(found), 2, user)
        found.refresh_from_db()
        use_curves(found, "monthly restore", user)
        when = taken + timedelta(days=days)
        type(found).objects.filter(pk=found.pk).update(started_at=when, finished_at=when)
    let_drift(mode.printer, {})


def _branch_and_lend(users: dict[str, User]) -> None:
    """A faster mode that is based on a slow one, a fall-back for a class, and a build on media that nothing
    reads.
    """
    slow = PrintMode.objects.select_related("printer", "media", "ink_set").get(
        name="Saltmarsh Cotton, archive charts"
    )
    derive_faster(slow, "Saltmarsh Cotton, archive charts fast", 8, "one way", users["ines"])
    banner = PrintMode.objects.get(name="Kelp Synthetic, deck charts")
    set_fallback(MediaClass.objects.get(name="mesh banner"), banner.printer, banner)
    gannet, mesh = Printer.objects.get(name="Gannet 64"), Media.objects.get(name="Gangway Mesh 270")
    choices = {
        "resolution": 600,
        "passes": 8,
        "direction": "one way",
        "halftone": "blue noise",
        **handling_choices(gannet, mesh),
    }
    start_build(
        "Gangway Mesh, pier banners",
        gannet,
        gannet.ink_sets.order_by("pk").first(),
        mesh,
        choices,
        users["tobias"],
    )
