"""Demo data: Northlight Chart House, a made-up publisher of nautical charts with two print rooms.

Everything is computed by the engine through the stand-in devices; only names and choices are typed in.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import Role, set_role
from greyanchor.builds.acceptance_rules import objections
from greyanchor.builds.charts import lay_out_confirmation, lay_out_stage, lay_out_verification
from greyanchor.builds.models import Build, Stage
from greyanchor.builds.restores import print_confirmation, start_restore, use_curves
from greyanchor.builds.services import accept_stage
from greyanchor.builds.stages import kinds
from greyanchor.builds.start import derive_faster, start_build
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.charts.patches import design
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.colour.illuminants import light
from greyanchor.core.profiling.build import build_profile
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.press import SimulatedPress
from greyanchor.core.simulation.standin import print_and_read
from greyanchor.demo import library, proof
from greyanchor.demo.prints import read_print
from greyanchor.library.machines.standin import set_standin
from greyanchor.library.models import Media, MediaClass, Printer, PrintMode
from greyanchor.library.modes.fallbacks import set_fallback
from greyanchor.library.modes.services import retire_mode
from greyanchor.library.records.effective_settings import FROZEN, start_values
from greyanchor.measuring.services import averaged, calibrate_white, read_row, start_pass
from greyanchor.profiles.models import RoomLight
from greyanchor.profiles.services import ensure_northlight_aim, keep_profile
from greyanchor.profiles.settings import settings_from


@dataclass(frozen=True)
class Account:
    """A demo account, shown on the demo's sign-in page."""

    username: str
    password: str
    first: str
    last: str
    role: str
    reach: Role
    site: str


ACCOUNTS = (
    Account(
        "ines",
        "quay-street-1",
        "Ines",
        "Marrow",
        "lead colour technician, Quay Street",
        Role.LEAD,
        "Quay Street",
    ),
    Account(
        "tobias",
        "lantern-hill-1",
        "Tobias",
        "Fenn",
        "colour technician, Lantern Hill",
        Role.TECHNICIAN,
        "Lantern Hill",
    ),
    Account("ada", "chart-table-1", "Ada", "Quill", "operator, Quay Street", Role.OPERATOR, "Quay Street"),
)
_CREATED = datetime(2026, 9, 1, 8, 0, 0, tzinfo=UTC)


@dataclass(frozen=True)
class Plan:
    """One demo print mode: where, on what, how, and how far its build went."""

    name: str
    printer: str
    media: str
    passes: int
    until: str
    patches: int = 320
    full: bool = False
    retire: str = ""
    greys: bool = False


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
    Plan("Tideline Matt, tide tables 8 pass", "Petrel 44", "Tideline Matt 140", 8, kinds.PROFILE),
    Plan("Lightbox Film, harbour panorama", "Gannet 64", "Lightbox Film 175", 12, kinds.PROFILE_CHART),
    Plan("Kelp Synthetic, fast deck charts", "Gannet 64", "Kelp Synthetic 190", 4, kinds.TOTAL_INK),
    Plan("Fathom Satin, proofs both ways", "Petrel 44", "Fathom Satin 260", 6, kinds.LINEARIZATION),
    Plan("Chandler Canvas, wall charts", "Petrel 44", "Chandler Canvas 380", 8, kinds.INK_LIMITS),
)


def is_seeded() -> bool:
    """Whether the demo data are there."""
    return PrintMode.objects.filter(name="Gangway Mesh, pier banners").exists()


def seed(say: Callable[[str], None]) -> None:
    """Make the whole demo library in one transaction: all of it, or nothing."""
    with transaction.atomic():
        users = people_and_machines()
        aim = ensure_northlight_aim()
        for plan in _PLANS:
            say(f"{plan.name} ({plan.printer}, {plan.passes} passes)")
            _carry_out(plan, users, aim.pk)
        say("restores, a faster mode, and what a class lends")
        _keep_true(users)
        _branch_and_lend(users)
        say("profiles of other kinds: R G B, seven inks, black alone")
        _other_kinds(users)
        say("proof: spot colours, own tolerances, twelve weeks of checks, a schedule")
        proof.seed(users, aim)
        say("the shared library: editions, pins, readiness, slots, the supplier's catalogue")
        library.seed(users)


def people_and_machines() -> dict[str, User]:
    """The people, machines and media of the demo, before any work."""
    users = _people()
    library.machines_and_media(users["ines"])
    library.memberships(users, {a.username: a.site for a in ACCOUNTS})
    return users


def _other_kinds(users: dict[str, User]) -> None:
    """Profiles of printers that have no log here, built from readings of their charts, and a measured light."""
    lamp, day = light("LED-B2"), light("D50")
    table = 0.7 * lamp / lamp.max() + 0.3 * day / day.max()  # a lamp beside a window
    RoomLight.objects.create(
        name="Lantern Hill table",
        power=[round(100.0 * float(p), 3) for p in table / table.max()],
        created_by=users["tobias"],
    )
    for title, printer, channels, patches in (
        ("Dunlin 24 R G B, chart prints", "dunlin-24/fathom-satin-260", tuple("RGB"), 300),
        (
            "Gannet 64 seven inks, deck charts",
            "gannet-64/kelp-synthetic-190/basalt-uv-seven",
            tuple("CMYKOGV"),
            800,
        ),
        ("Petrel 44 black alone, tide tables", "petrel-44/tideline-matt-140", ("K",), 64),
    ):
        press, total = press_by_name(printer), min(3.0, float(len(channels)))
        chart, _ = lay_out(design("profile", channels, patches, total), channels, shuffle_seed=3)
        readings = print_and_read(chart, press, 5, pipeline=partial(_within, press, channels))
        options = {"total_ink": 100.0 * total, "black_start": 25.0, "black_strength": 50.0, "max_black": 100.0, "width": 100.0,
                   "handover": 50.0, "title": title, "version": 4, "quality": "draft"}  # fmt: skip
        result = build_profile(
            readings, replace(settings_from(options, title, len(channels)), created=_CREATED)
        )
        keep_profile(result, title, 4, options, {"from": "readings of its own chart"}, users["tobias"])


def _within(press: SimulatedPress, channels: tuple[str, ...], values: Array) -> Array:
    """Raw values of a printer whose own limits were set before: inks to three quarters, pictures as they are."""
    return press.as_raw(values if press.driven else 0.75 * values, channels)


def _people() -> dict[str, User]:
    users = {}
    for account in ACCOUNTS:
        user, made = User.objects.get_or_create(
            username=account.username, defaults={"first_name": account.first, "last_name": account.last}
        )
        if made:
            user.set_password(account.password)
            user.save()
            set_role(user, account.reach)
        users[account.username] = user
    return users


def _carry_out(plan: Plan, users: dict[str, User], aim: int) -> None:
    printer = Printer.objects.get(name=plan.printer)
    media = Media.objects.get(name=plan.media)
    user = users["ines" if printer.site.name == "Quay Street" else "tobias"]
    direction = "both ways" if "both ways" in plan.name else "one way"
    choices = {
        "resolution": 1200, "passes": plan.passes, "direction": direction, "halftone": "blue noise", **_held(printer, media),
    }  # fmt: skip
    ink_set = printer.ink_sets.order_by("pk").first()
    build = start_build(plan.name, printer, ink_set, media, choices, user, {"greys": plan.greys})  # type: ignore[arg-type]
    for kind in kinds.KINDS:
        if kind.name == kinds.GREYS and not plan.greys:
            continue
        if kind.name == plan.until:
            _half_way(build, kind, user)
            return
        if kind.name == kinds.RELEASE:
            break
        _evidence(build, kind, plan, user, aim)
        _accept(build, kind.name, user)
    if plan.until == "released":
        _accept(
            build,
            kinds.RELEASE,
            users["ines"],
            {"note": "Made and proven at " + printer.site.name + ". Dry before trimming."},
        )
    if plan.retire:
        mode = PrintMode.objects.get(pk=build.mode_id)
        retire_mode(mode.pk, mode.version, users["ines"], plan.retire)


def _held(printer: Printer, media: Media) -> dict[str, float]:
    """Heat and vacuum as presets, classes and the machine have them."""
    held = start_values(printer, media)
    return {name: held[key].value for name, key in FROZEN.items()}


def _stage(build: Build, kind: str) -> Stage:
    return build.stages.select_related("build__mode__profile", "sheet_print__chart").get(kind=kind)


def _evidence(build: Build, kind: kinds.Kind, plan: Plan, user: User, aim: int) -> None:
    stage = _stage(build, kind.name)
    if kind.name == kinds.PROFILE:
        _profile(stage, plan, user)
        return
    if kind.name == kinds.PROFILE_CHART:
        lay_out_stage(stage, {"patches": plan.patches, "page": "a4"})
    if kind.name == kinds.CHECK:
        lay_out_stage(stage, {"aim": aim, "tolerances": "iso12647-7:2016", "corrected": True})
    _read(_stage(build, kind.name), kind.passes, user)


def _read(stage: Stage, passes: int, user: User) -> None:
    assert stage.sheet_print is not None
    read_print(stage.sheet_print, passes, user)
    if stage.kind in (kinds.LINEARIZATION, kinds.GREYS) and passes > 1:
        stage.refresh_from_db()
        again = lay_out_confirmation if stage.kind == kinds.LINEARIZATION else lay_out_verification
        read_print(again(stage), passes, user)


def _profile(stage: Stage, plan: Plan, user: User) -> None:
    chart = _stage(stage.build, kinds.PROFILE_CHART)
    total = _stage(stage.build, kinds.TOTAL_INK).decision["total_ink"]  # type: ignore[index]
    options: dict[str, Any] = {
        "title": plan.name, "total_ink": min(total, 300.0), "black_start": 25.0, "black_strength": 50.0, "max_black": 100.0,
        "version": 4, "quality": "full" if plan.full else "draft",
    }  # fmt: skip
    readings = averaged(chart.sheet_print)  # type: ignore[arg-type]
    result = build_profile(readings, replace(settings_from(options, plan.name), created=_CREATED))
    made_from = {
        "environment": stage.build.environment_hash,
        "readings": readings.content_hash(),
        "chart": chart.sheet_print.chart.content_hash,
    }  # type: ignore[union-attr]
    stage.options = options
    stage.profile = keep_profile(result, plan.name, options["version"], options, made_from, user)
    stage.result = {
        n: result.report[n]
        for n in ("fit", "held_out", "round_trip", "neutral_dch_max", "gamut_volume", "seconds")
    }
    stage.save()


def _accept(build: Build, kind: str, user: User, values: dict[str, Any] | None = None) -> None:
    stage = _stage(build, kind)
    if values is None:
        values = _found(stage)
    reason = "kept for drafts only, the media cannot reach the aim" if objections(stage, values) else ""
    build.refresh_from_db()
    accept_stage(stage.pk, build.version, values, reason, user)


def _found(stage: Stage) -> dict[str, Any]:
    """The decision that takes what was found as it is."""
    if stage.kind == kinds.INK_LIMITS:
        return {"limits": {c: v["percent"] for c, v in stage.result["limits"].items()}}  # type: ignore[index]
    if stage.kind == kinds.TOTAL_INK:
        return {"total_ink": stage.result["percent"]}  # type: ignore[index]
    return {}


def _half_way(build: Build, kind: kinds.Kind, user: User) -> None:
    """Leave a build in the middle of a stage, the way a working day ends."""
    stage = _stage(build, kind.name)
    if kind.name == kinds.PROFILE_CHART:
        lay_out_stage(stage, {"patches": 420, "page": "a4"})
        stage = _stage(build, kind.name)
        _read(stage, 1, user)
        stage = _stage(build, kind.name)
        current = start_pass(stage.sheet_print, user)  # type: ignore[arg-type]
        calibrate_white(current.pk)
        for row in range(1, 9):
            while not read_row(current.pk, row).kept:
                pass
    elif kind.name == kinds.INK_LIMITS:
        _read(stage, 2, user)
    elif kind.name == kinds.TOTAL_INK:
        _read(stage, 1, user)
    elif kind.name == kinds.LINEARIZATION:
        _read(stage, 2, user)


def _keep_true(users: dict[str, User]) -> None:
    """Three months of a machine that drifts, and was brought back each time."""
    mode = PrintMode.objects.select_related("printer", "media", "ink_set").get(name=_PLANS[0].name)
    taken = timezone.now() - timedelta(days=92)
    type(mode.baseline).objects.filter(mode=mode).update(taken_at=taken)
    for days, drift in (
        (30, {"C": 1.06}),
        (61, {"C": 1.12, "M": 0.95}),
        (90, {}),  # its heads were replaced
    ):
        set_standin(mode.printer, drift, [0, 0, 0])
        mode.refresh_from_db()
        found = start_restore(mode, users["ines"])
        read_print(found.sheet_print, 2, users["ines"])
        found.refresh_from_db()
        read_print(print_confirmation(found), 2, users["ines"])
        found.refresh_from_db()
        use_curves(found, "monthly restore", users["ines"])
        when = taken + timedelta(days=days)
        type(found).objects.filter(pk=found.pk).update(started_at=when, finished_at=when)
    set_standin(mode.printer, {}, [0, 0, 0])


def _branch_and_lend(users: dict[str, User]) -> None:
    """A faster mode that rests on a slow one, a fall-back for a class, and a build on media that nothing reads."""
    slow = PrintMode.objects.select_related("printer", "media", "ink_set").get(
        name="Saltmarsh Cotton, archive charts"
    )
    derive_faster(slow, "Saltmarsh Cotton, archive charts fast", 8, "one way", users["ines"])
    banner = PrintMode.objects.get(name="Kelp Synthetic, deck charts")
    set_fallback(MediaClass.objects.get(name="mesh banner"), banner.printer, banner)
    gannet, mesh = Printer.objects.get(name="Gannet 64"), Media.objects.get(name="Gangway Mesh 270")
    choices = {
        "resolution": 600, "passes": 8, "direction": "one way", "halftone": "blue noise", **_held(gannet, mesh),
    }  # fmt: skip
    start_build(
        "Gangway Mesh, pier banners",
        gannet,
        gannet.ink_sets.order_by("pk").first(),
        mesh,
        choices,
        users["tobias"],
    )  # type: ignore[arg-type]
