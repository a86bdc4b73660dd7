"""Roles hold in services, for every address that changes anything, and for programs."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from django.contrib.auth.models import AnonymousUser, User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.urls import URLPattern, URLResolver, get_resolver, reverse

from greyanchor.accounts import people
from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, NotAllowed, Role, acting, may, needs, role_of, set_role
from greyanchor.builds.evidence.charts import lay_out_stage
from greyanchor.builds.models import Baseline, Build, Refinement, RefineRound, Restore, Task
from greyanchor.changes.models import Swap
from greyanchor.checks.models import Check, Schedule, StripRecord, ToleranceRecord
from greyanchor.colours.models import LightPlace, SwatchBook
from greyanchor.core.errors import BadInput
from greyanchor.delivery.models import DeliveryFolder
from greyanchor.families.models import Family, FamilyMember
from greyanchor.library.models import (
    LimitSet,
    MediaPreset,
    PackExport,
    PackImport,
    Printer,
    PrintMode,
    ReadinessRun,
)
from greyanchor.library.records import editing
from greyanchor.measuring.models import ReadingPass, Upload
from greyanchor.measuring.printing import print_sheet
from greyanchor.printroom.models import Artwork, HotFolder, Job, PlateSet, Print, PrintFile, Run, RunJob
from greyanchor.profiles.models import AimRecord, Profile, ProfileWork, SpotLibrary, SpotRecord
from greyanchor.unattended.models import Unattended
from tests.web.conftest import CHOICES
from tests.web.library_kit import ABILITIES, mode, person, preset, profile

#: addresses that answer a POST from anybody who is signed in: looking, reading and using
OPERATORS = {
    "sign-out",
    "first-account",
    "mode-pin",
    "key-make",
    "key-end",
    "media-load",
    "unattended-act",
    "swap-record",
    "swap-take-back",
    "slot-send",
    "ready-print",
    "ready-judge",
    "reading-act",
    "pass-reopen",
    "print-dry",
    "password",
    "new-password",
    "sign-in-code",
    "forgotten",
    "factor-on",
    "factor-off",
    "mail-set",
    "light-zero",
    "light-measure",
    "light-upload",
    "light-lamps",
    "book-act",
    "files",
    "upload",
    "upload-use",
    "check-new",
    "check-strip",
    "check-print",
    "check-print-act",
    "stage-print",
    "stage-read",
    "stage-upload",
    "compare",
    "prediction",
    "export-order",
    "export-act",
    "artwork-add",
    "artwork-job",
    "artwork-again",
    "job-change",
    "job-undo",
    "job-piece",
    "job-prepare",
    "plates",
    "plates-strip",
    "plate-set-act",
    "print-file-act",
    "print-order",
    "print-act",
    "machine-pause",
    "print-rest",
    "print-fault",
    "print-judge",
    "mode-trial",
    "run-make",
    "run-change",
    "run-places",
    "run-jobs",
    "run-act",
}
#: addresses that a lead alone may post to; a mode in use is changed by leads, a draft by technicians
LEADS = {
    "mode-edit",
    "mode-retire",
    "mode-bring-back",
    "mode-send-back",
    "mode-release",
    "person-set",
    "person-leave",
    "person-reset",
    "person-factor-end",
    "person-add",
    "access-set",
    "storage",
    "storage-tidy",
    "site-add",
    "shop",
    "media-classes-lend",
    "pass-withdraw",
    "delivery-folder-add",
    "webhook-add",
    "delivery-switch",
    "delivery-again",
}
#: pages that take a POST but change nothing by it
LOOKING = {"sign-in", "start", "spot-nearest"}


def addresses() -> list[tuple[str, Any]]:
    """Every named address of the application, with its view."""
    found: list[tuple[str, Any]] = []

    def walk(patterns: list[Any]) -> None:
        for p in patterns:
            if isinstance(p, URLResolver):
                walk(p.url_patterns)
            elif isinstance(p, URLPattern) and p.name and not p.name.startswith("api-"):
                found.append((p.name, p))

    walk(get_resolver().url_patterns)
    return found


@pytest.fixture
def world(build: Build, user: User, aim: AimRecord, printer: Printer) -> dict[str, int]:
    """One record of every kind that an address names, so that nothing is refused for being missing."""
    printer.abilities = ABILITIES
    printer.save()
    media = build.mode.media
    made, held = mode("Deck charts", printer, media), preset(media, printer, {"vacuum": 60})
    lay_out_stage(build.stages.get(kind="ink-limits"), {})
    stage = build.stages.get(kind="ink-limits")
    job = print_sheet(stage.sheet_print.pk, user)
    reading = ReadingPass.objects.create(sheet_print=job, number=1, source="x")
    base = Baseline.objects.create(mode=made, text="x", curves="x", environment_hash="x", confirmed=True)
    restore = Restore.objects.create(
        mode=made, baseline=base, curves_before="", sheet_print=job, started_by=user
    )
    refine = Refinement.objects.create(mode=made, base=profile(), started_by=user)
    round_ = RefineRound.objects.create(refinement=refine, number=1, through=profile(), sheet_print=job)
    check = Check.objects.create(
        mode=made, aim=aim, tolerances="x", verdict="pass", summary="s", readings="r", readings_hash="h"
    )
    tolerance = ToleranceRecord.objects.create(
        key="own-set",
        title="Own",
        data={},
    )
    owned = editing.attach(held, "a.txt", b"x", "", user)
    return {
        "build": build.pk,
        "mode": made.pk,
        "preset": held.pk,
        "pass": reading.pk,
        "print": job.pk,
        "restore": restore.pk,
        "refine": refine.pk,
        "round": round_.pk,
        "check": check.pk,
        "set": tolerance.key,
        "task": Task.objects.create(stage=stage).pk,
        "aim": aim.pk,
        "profile": profile().pk,
        "work": ProfileWork.objects.create(kind="new", title="x").pk,
        "upload": Upload.objects.create(name="x", data=b"x", sheet_print=job, sent_by=user).pk,
        "spot": SpotRecord.objects.create(name="Buoy", lightness=50, a=0, b=0).pk,
        "book": SwatchBook.objects.create(title="b", mode=made, sheet_print=job).pk,
        "strip": StripRecord.objects.create(name="s", text="x").pk,
        "schedule": Schedule.objects.create(mode=made, aim=aim, tolerances="x", every_days=7).pk,
        "printer": printer.pk,
        "class": media.media_class_id,
        "media": media.pk,
        "pack": PackImport.objects.create(name="p", path="x", step="plan", state="waiting").pk,
        "file": owned.pk,
        "user": user.pk,
        "export": PackExport.objects.create(title="x", modes=[made.pk]).pk,
        "curves": made.curve_set_id,
        "limits": LimitSet.objects.get(pk=made.limit_set_id).pk,
        "ink": printer.ink_sets.get().pk,
        "ready": ReadinessRun.objects.create(
            printer=printer, task="nozzles", pattern={"closed": {"C": []}}
        ).pk,
        **_print_room(made, user),
        "swap": Swap.objects.create(printer=printer, kind="paper", by=user).pk,
        "family": _family(made, user).pk,
        "alone": Unattended.objects.create(
            kind="night", printer=printer, mode=made, started_by=user, state="stopped", stop="person"
        ).pk,
        "key": people.make_key(user, "x") and user.program_keys.get().pk,
    }  # type: ignore[dict-item]


#: a run as it was before a change, without its parts
_EARLIER = {
    **{key: {} for key in ("rules", "strip", "after", "cutting", "fill")},
    "places": [],
    "by_hand": False,
    "goes": False,
    "name": "earlier",
}


def _family(made: PrintMode, user: User) -> Family:
    found = Family.objects.create(name="f", made_by=user)
    FamilyMember.objects.create(family=found, mode=made, own=made.profile, profile=made.profile)
    return found


def _print_room(made: PrintMode, user: User) -> dict[str, int]:
    facts = {"kind": "picture", "pages": [{"width_mm": 100.0, "height_mm": 80.0}], "findings": []}
    artwork = Artwork.objects.create(
        name="a.png", sha256="0" * 64, size=1, file="artwork/00/0", facts=facts, state="failed"
    )
    job = Job.objects.create(artwork=artwork, name="a", mode=made, undo=[{"choices": {}, "mode": made.pk}])
    run = Run.objects.create(
        name="r",
        printer=made.printer,
        mode=made,
        width_mm=600.0,
        rules={"gap": 5.0},
        undo=[_EARLIER | {"parts": [{"job_id": job.pk}]}],
    )
    RunJob.objects.create(run=run, job=job)
    file = PrintFile.objects.create(job=job, mode=made, state="failed")
    folder = DeliveryFolder.objects.create(name="d", folder="d", files=["profile"])
    return {
        "run": run.pk,
        "delivery": folder.pk,
        "artwork": artwork.pk,
        "job": job.pk,
        "print-file": file.pk,
        "plates": PlateSet.objects.create(job=job, state="failed").pk,
        "job-print": Print.objects.create(print_file=file, printer=made.printer, key="k", state="failed").pk,
        "place": LightPlace.objects.create(
            name="Booth", site=made.printer.site, limits={"ra": 90.0}, source="own"
        ).pk,
        "hot": HotFolder.objects.create(name="h", folder="h").pk,
    }


#: which record the number in an address is, by the beginning of its name
_WHOSE = (
    ("swap-take-back", "swap"),
    ("swap", "printer"),
    ("what-changed", "mode"),
    ("family-sisters", "job"),
    ("family", "family"),
    ("unattended-build", "build"),
    ("unattended", "alone"),
    ("artwork", "artwork"),
    ("job", "job"),
    ("plates", "job"),
    ("plate-set", "plates"),
    ("print-file", "print-file"),
    ("print-order", "print-file"),
    ("print-act", "job-print"),
    ("print-rest", "job-print"),
    ("print-fault", "job-print"),
    ("print-judge", "job-print"),
    ("prints", "job-print"),
    ("machine", "printer"),
    ("run", "run"),
    ("delivery", "delivery"),
    ("hot-folder", "hot"),
    ("check-print", "print"),
    ("check", "check"),
    ("mode", "mode"),
    ("restore-start", "mode"),
    ("baseline", "mode"),
    ("restore", "restore"),
    ("refine-start", "mode"),
    ("refine-round", "round"),
    ("refinement", "refine"),
    ("refine", "refine"),
    ("branch", "mode"),
    ("task", "task"),
    ("stage", "build"),
    ("build", "build"),
    ("environment", "build"),
    ("limits-cost", "build"),
    ("total-cost", "build"),
    ("match", "build"),
    ("profile-start", "build"),
    ("profile-attach", "build"),
    ("profile-work", "work"),
    ("profile", "profile"),
    ("separation", "profile"),
    ("rebuild", "profile"),
    ("propose", "profile"),
    ("reading", "pass"),
    ("pass", "pass"),
    ("print-dry", "print"),
    ("upload", "upload"),
    ("aim", "aim"),
    ("spot", "spot"),
    ("light", "place"),
    ("book", "book"),
    ("strip", "strip"),
    ("schedule", "schedule"),
    ("prediction", "profile"),
    ("printer", "printer"),
    ("slot", "printer"),
    ("ready", "printer"),
    ("media-load", "printer"),
    ("media-class", "class"),
    ("class-start", "class"),
    ("media", "media"),
    ("preset", "preset"),
    ("ink-set", "ink"),
    ("pack", "pack"),
    ("file-remove", "file"),
    ("file", "file"),
    ("export", "export"),
    ("person", "user"),
    ("key-end", "key"),
    ("curve-set", "curves"),
    ("limit-set", "limits"),
    ("notes", "curves"),
    ("record", "preset"),
    ("proof", "profile"),
    ("gamut", "profile"),
    ("chart", "print"),
    ("edition", "mode"),
)


def arguments(name: str, pattern: URLPattern, world: dict[str, Any]) -> dict[str, Any]:
    """Values for an address: the record it is about, and plain words for the rest."""
    whose = next((w for start, w in _WHOSE if name.startswith(start)), "mode")
    usual = {
        "pk": world[whose],
        "kind": "folder" if name.startswith("delivery") else "ink-limits",
        "key": world["set"],
        "purpose": "profile",
        "channel": "C",
        "act": "white",
        "kind_key": "presets",
        "task_key": "nozzles",
        "number": 1,
        "spot": 0,
        "ending": "csv",
        "sheet": 1,
        "form": "svg" if name.startswith("run") else "txt",
        "subject": "C",
        "token": "guessed",
        "way": "pause" if name == "machine-pause" else "undo",
        "name": str(world["job"]),
        "turned": "0",
    }
    if name == "file-add":
        usual["pk"] = world["preset"]
    usual["act"] = {
        "restore-act": "close",
        "refinement-act": "close",
        "check-print-act": "print",
        "print-file-act": "go-on",
        "plate-set-act": "film",
        "print-act": "again",
        "book-act": "print",
        "run-act": "undo",
        "unattended-act": "go-on",
        "family-act": "compute",
    }.get(name, "white")
    if name in ("stage-confirm", "stage-match"):
        usual["kind"] = "linearization"
    if name in ("notes-save", "contents"):
        usual["kind_key"] = "curves"
    wanted = set(pattern.pattern.converters) | set(
        getattr(pattern.pattern, "regex", re.compile("")).groupindex
    )
    return {k: usual[k] for k in wanted - set(pattern.default_args) if k in usual}


#: what a form needs to reach its service, by the name of its address
_FORMS: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
    "stage-accept": lambda w: {"version": 1, "C": 80, "M": 80, "Y": 80, "K": 80, "reason": "x"},
    "stage-skip": lambda w: {"version": 1, "reason": "x"},
    "stage-redo": lambda w: {"version": 1},
    "stage-inherit": lambda w: {
        "version": 1,
        "inherit-ink-limits-lender": w["mode"],
        "inherit-ink-limits-reason": "x",
        "inherit-ink-limits-version": 1,
        "lender": w["mode"],
        "reason": "x",
    },
    "new-build": lambda w: {
        **CHOICES,
        "printer": w["printer"],
        "ink_set": w["ink"],
        "media": w["media"],
        "name": "Fresh",
    },
    "branch": lambda w: {"name": "x", "passes": 6, "direction": "one way"},
    "environment": lambda w: {**CHOICES, "heat": 41, "reason": "x", "version": 1, "sure": "1"},
    "mode-edit": lambda w: {"version": 1, "why": "x", "name": "Other", "note": ""},
    "media": lambda w: {
        "version": 1,
        "why": "x",
        "name": "Other",
        "media_class": w["class"],
        "maker": "x",
        "weight": 200,
        "thickness": 200,
        "width_mm": 1000,
        "brightener": "none",
        "dry_minutes": 5,
    },
    "media-class": lambda w: {"version": 1, "why": "x", "name": "Other", "family": ""},
    "preset": lambda w: {"version": 1, "why": "x", "name": "Other"},
    "printer": lambda w: {
        "version": 1,
        "why": "x",
        "name": "Other",
        "model": "x",
        "site": Site.objects.get().pk,
        "serial": "1",
        "width_mm": 500,
        "resolutions": "600",
        "passes": "4",
        "driven_as": "x",
        "slots": 4,
    },
    "ink-set": lambda w: {"version": 1, "why": "x", "name": "Other", "kind": "x", "channels": "C M Y K"},
    "record-new": lambda w: {
        "version": 1,
        "why": "x",
        "name": "Fresh",
        "media": w["media"],
        "printer_model": "Petrel 44",
    },
    "record-go-back": lambda w: {"entry": MediaPreset.history.first().history_id, "version": 1, "why": "x"},
    "file-add": lambda w: {"file": SimpleUploadedFile("a.txt", b"x")},
    "notes-save": lambda w: {"notes": "x"},
    "pack-receive": lambda w: {"file": SimpleUploadedFile("a.zip", b"PK")},
    "catalogue-fetch": lambda w: {"key": "x", "version": "1"},
    "slot-tune": lambda w: {"slot": 1, "key": "vacuum", "value": 50},
    "slot-take": lambda w: {"slot": 1, "key": "vacuum"},
    "media-classes-lend": lambda w: {"media_class": w["class"], "printer": w["printer"], "mode": w["mode"]},
    "shop": lambda w: {"version": 1, "check_days": 30, "profile_error": 1.5},
    "export-order": lambda w: {"query": f"m={w['mode']}", "title": "x"},
    "export-act": lambda w: {"act": "stop"},
    "person-set": lambda w: {"role": "lead"},
    "password": lambda w: {"old": "x", "new": "y", "again": "y"},
    "site-add": lambda w: {"name": "Third"},
    "person-add": lambda w: {"username": "z", "password": "a long password", "role": "lead"},
    "artwork-add": lambda w: {"files": SimpleUploadedFile("b.png", b"x")},
    "job-change": lambda w: {"version": 1, "copies": 2},
    "job-undo": lambda w: {"version": 1},
    "job-piece": lambda w: {"version": 1, "left": 0, "top": 0, "wide": 0.5, "tall": 0.5, "as": "piece"},
    "run-make": lambda w: {"job": w["job"]},
    "run-jobs": lambda w: {"version": 1, "off": w["job"]},
    "run-places": lambda w: {"version": 1, "places": "[]"},
    "print-fault": lambda w: {"kind": "banding", "across": 50, "along": 50},
    "print-judge": lambda w: {"as": "fit"},
    "mode-trial": lambda w: {"length": 300},
    "delivery-folder-add": lambda w: {"name": "f", "folder": "f", "files": "profile"},
    "webhook-add": lambda w: {"name": "w", "address": "https://host/x", "events": "check.made"},
    "hot-folder-add": lambda w: {"name": "deck", "folder": "deck", "intent": "relative"},
    "mode-release": lambda w: {"version": 1, "note": "x", "exception": "x"},
    "check-sign": lambda w: {},
    "check-amend": lambda w: {"name": "x", "note": "x", "why": "x"},
    "check-as-aim": lambda w: {"name": "x"},
    "set-import": lambda w: {"file": SimpleUploadedFile("a.json", b"{}")},
    "set-save": lambda w: {"version": 1},
    "aim-add": lambda w: {"name": "x", "source": "x", "file": SimpleUploadedFile("a.txt", b"x")},
    "spot-import": lambda w: {"file": SimpleUploadedFile("a.csv", b"name,L,a,b\nx,50,0,0\n")},
    "spot-library": lambda w: {"name": "Another"},
    "spot-find-all": lambda w: {"mode": w["mode"]},
    "spot-into-mode": lambda w: {"mode": w["mode"], "colour": [w["spot"]]},
    "spot-choose": lambda w: {"mode": w["mode"], "inks": "0.1,0,0,0"},
    "book-new": lambda w: {"modes": [w["mode"]], "colour": [w["spot"]], "kind": "table", "page": "a4"},
    "book-keep": lambda w: {"number": 0, "name": "Mine"},
    "spot-save": lambda w: {"name": "Fresh", "lightness": 50, "a": 0, "b": 0},
    "strip-add": lambda w: {"name": "x", "file": SimpleUploadedFile("a.txt", b"x")},
    "schedule-save": lambda w: {
        "mode": w["mode"],
        "aim": AimRecord.objects.first().pk,
        "tolerances": "iso12647-7:2016",
        "every_days": 7,
    },
    "lights": lambda w: {
        "name": "x",
        "site": Site.objects.get().pk,
        "condition": "P1",
        "every_days": 30,
    },
    "light-limits": lambda w: {"version": 1, "source": "own", "every_days": 30, "limit_ra": 92},
    "light-upload": lambda w: {"file": SimpleUploadedFile("a.csv", b"x")},
    "profile-attach": lambda w: {"file": SimpleUploadedFile("a.icc", b"x"), "version": 1},
    "stage-lay-out": lambda w: {"patches": 220},
    "stage-tone-aim": lambda w: {"aim": "sctv"},
    "stage-touch": lambda w: {"channel": "C", "input": 50, "output": 50},
    "stage-choose": lambda w: {"tones": "even"},
    "stage-mark": lambda w: {},
}


def _digest() -> tuple[Any, ...]:
    """What stands in the tables that roles guard."""
    models = (
        PrintMode,
        MediaPreset,
        Profile,
        AimRecord,
        SpotRecord,
        LightPlace,
        SpotLibrary,
        SwatchBook,
        StripRecord,
        ToleranceRecord,
        Schedule,
        Build,
        Site,
        User,
        Printer,
    )
    return tuple((m.__name__, tuple(m.objects.order_by("pk").values_list())) for m in models)


def posting() -> list[str]:
    """Names of addresses whose views take a POST."""
    import inspect

    out = []
    for name, pattern in addresses():
        closed = getattr(pattern.callback, "__closure__", None) or ()
        allowed = [
            c.cell_contents
            for c in closed
            if isinstance(c.cell_contents, list) and all(isinstance(v, str) for v in c.cell_contents)
        ]
        if allowed and "POST" not in allowed[0]:
            continue
        source = (
            inspect.getsource(inspect.unwrap(pattern.callback))
            if inspect.isfunction(inspect.unwrap(pattern.callback))
            else ""
        )
        if allowed or "POST" in source or "posted" in source or "edit_page" in source:
            out.append(name)
    return sorted(set(out))


@pytest.mark.parametrize("name", [n for n in posting() if n not in LOOKING])
def test_every_address_holds_to_the_roles(
    name: str, world: dict[str, Any], settings: Any, tmp_path: Any
) -> None:
    settings.HOME = tmp_path
    pattern = dict(addresses())[name]
    address = reverse(name, kwargs=arguments(name, pattern, world))
    form = _FORMS.get(name, lambda w: {"version": 1, "why": "x"})
    for role in (Role.OPERATOR, Role.TECHNICIAN):
        client = Client(raise_request_exception=False)
        client.force_login(person(role.word, role))
        needed = Role.OPERATOR if name in OPERATORS else Role.LEAD if name in LEADS else Role.TECHNICIAN
        before = _digest()
        answer = client.post(address, form(world))
        if role < needed:
            assert answer.status_code == 403 or _digest() == before, (
                f"{role.word} changed something by {address}"
            )
            assert answer.status_code == 403, f"{role.word} was answered {answer.status_code} by {address}"
        else:
            assert answer.status_code != 403, (
                f"{role.word} was refused by {address}: {answer.content.decode()[-400:]}"
            )


def test_there_are_many_addresses_and_all_lists_name_real_ones() -> None:
    names = {n for n, _ in addresses()}
    assert len(posting()) > 60 and names >= OPERATORS | LEADS | LOOKING
    assert set(_FORMS) <= names


def test_who_is_refused_reads_who_may(client: Client, world: dict[str, Any]) -> None:
    visitor = Client()
    visitor.force_login(person("ada", Role.OPERATOR))
    answer = visitor.post(f"/modes/{world['mode']}/retire/", {"version": 1, "why": "x"})
    page = answer.content.decode()
    assert (
        answer.status_code == 403
        and "Ada Rook is signed in as operator" in page
        and "takes a lead" in page
        and "Nothing was changed" in page
    )


def test_pages_offer_what_the_person_may_do(world: dict[str, Any]) -> None:
    seen = {}
    for role in Role:
        client = Client()
        client.force_login(person(role.word, role))
        seen[role] = (
            client.get(f"/modes/{world['mode']}/").content.decode()
            + client.get(f"/presets/{world['preset']}/").content.decode()
        )
    assert "Retire" in seen[Role.LEAD] and "Retire" not in seen[Role.TECHNICIAN]
    assert "Save preset" in seen[Role.TECHNICIAN] and "Save preset" not in seen[Role.OPERATOR]
    assert (
        "Go on with the restore" in seen[Role.TECHNICIAN]
        and "Go on with the restore" not in seen[Role.OPERATOR]
    )


def test_services_hold_to_roles_by_the_user_they_are_given_and_by_who_acts(db: None) -> None:
    @needs(MAKE)
    def make(user: Any = None) -> str:
        return "made"

    operator, maker = person("ada", Role.OPERATOR), person("tobias", Role.TECHNICIAN)
    assert make() == "made" and make(maker) == "made"
    with pytest.raises(NotAllowed):
        make(operator)
    with acting(operator), pytest.raises(NotAllowed):
        make(maker)
    with acting(AnonymousUser()):
        assert make() == "made"
    assert may(None, Role.LEAD) and role_of(User(is_superuser=True)) == Role.LEAD
    assert role_of(User.objects.create_user("nobody")) == Role.OPERATOR, (
        "an account without a group may look alone"
    )


def test_the_last_lead_stays_and_people_are_added_and_moved(client: Client, user: User) -> None:
    with pytest.raises(BadInput, match="last lead"):
        people.set_person(user, "operator", None, user)
    client.post(
        "/shop/people/add/",
        {"username": "olga", "first": "Olga", "last": "Stern", "password": "a long password", "role": "lead"},
    )
    olga = User.objects.get(username="olga")
    assert (
        role_of(olga) == Role.LEAD and Client().login(username="olga", password="a long password") is not None
    )
    people.set_person(user, "technician", None, olga)
    assert role_of(User.objects.get(pk=user.pk)) == Role.TECHNICIAN
    set_role(user, Role.LEAD)
    for bad in (
        {"username": "olga", "password": "a long password"},
        {"username": "x", "password": "short"},
        {"username": "<b>", "password": "a long password"},
    ):
        assert client.post("/shop/people/add/", {**bad, "role": "operator"}).status_code == 409
    assert (
        client.post("/shop/sites/add/", {"name": "Third Quay"}).status_code == 302
        and client.post("/shop/sites/add/", {"name": "third quay"}).status_code == 409
    )
