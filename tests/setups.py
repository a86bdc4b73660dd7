"""What a served shop begins a test with. Each function is run in a process of its own, inside the
application's
settings: ``python -m tests.setups released_mode``.
"""

from __future__ import annotations

import sys
from pathlib import Path


def _users() -> dict:
    from django.contrib.auth.models import User

    return {u.username: u for u in User.objects.all()}


def released_mode() -> None:
    """One mode, built and released."""
    from greyanchor.demo.builds import Plan, carry_out

    plan = Plan("Quay proof", "Petrel 44", "Harbour Proof Semimatt 235", 8, "released", 220)
    carry_out(plan, _users(), 1)


def half_way() -> None:
    """A build that waits for its profile."""
    from greyanchor.demo.builds import Plan, carry_out

    carry_out(Plan("Half way", "Petrel 44", "Harbour Proof Semimatt 235", 8, "profile", 220), _users(), 1)


def grey_proof() -> None:
    """A build that waits at grey balance."""
    from greyanchor.builds.stages import names
    from greyanchor.demo.builds import Plan, carry_out
    from greyanchor.profiles.models import AimRecord

    media = "Harbour Proof Semimatt 235"
    plan = Plan("Grey proof", "Petrel 44", media, 8, names.GREY_BALANCE, greys=True, read=False)
    carry_out(plan, _users(), AimRecord.objects.get(name="Northlight Coated").pk)


def printed_modes() -> None:
    """A mode that was really built, and a faster sister that prints through the same profile."""
    from greyanchor.library.models import PrintMode

    released_mode()
    mode = PrintMode.objects.get(name="Quay proof")
    mode.pk, mode.name, mode.environment = None, "Quay proof, fast", {**mode.environment, "passes": 4}
    mode._state.adding = True
    mode.save()


def finished_modes() -> None:
    """Four modes without a build: two released, one being built, one retired."""
    from django.utils import timezone

    from greyanchor.library.models import Media, MediaPreset, Printer
    from greyanchor.library.records.editions import keep_edition
    from tests.web.library_kit import mode

    ines = _users()["ines"]
    printers = {p.name: p for p in Printer.objects.all()}
    for name in ("Petrel 44", "Gannet 64"):
        printers[name].ink_sets.set(printers[name].ink_sets.order_by("pk")[:1])
    for name, printer, media, passes, state in (
        ("Deck charts", "Petrel 44", "Kelp Synthetic 190", 8, "released"),
        ("Archive charts", "Petrel 44", "Saltmarsh Cotton 310", 12, "released"),
        ("Quay signs", "Gannet 64", "Breakwater Banner 440", 6, "building"),
        ("Tide tables", "Petrel 44", "Tideline Matt 140", 8, "retired"),
    ):
        held = Media.objects.get(name=media)
        preset = MediaPreset.objects.filter(media=held, printer_model=printers[printer].model).first()
        checked = {"last_verdict": "pass", "last_check_summary": "fine"}
        made = mode(
            name, printers[printer], held, state=state, passes=passes, user=ines, preset=preset, **checked
        )
        if state == "released":
            made.released_at, made.released_by = timezone.now(), ines
            made.save()
            keep_edition(made, [{"rule": "test", "ok": True, "text": "made for a test"}], ines)


def empty_library() -> None:
    """Nothing of the library is left; prints how many modes there are."""
    from greyanchor.library.models import Edition, KeptText, Media, MediaClass, MediaPreset, PrintMode
    from greyanchor.profiles.models import Profile

    for model in (Edition, PrintMode, MediaPreset, Media, MediaClass, KeptText, Profile):
        model.objects.all().delete()
    print(PrintMode.objects.count())


def forget_readiness() -> None:
    """No machine was ever readied."""
    from greyanchor.library.models import ReadinessRun

    ReadinessRun.objects.all().delete()


def offer(version: str) -> None:
    """A pack in the supplier's catalogue."""
    from django.conf import settings

    from greyanchor.demo.library import supplied_pack
    from greyanchor.library.models import PrintMode

    folder = Path(settings.HOME) / "catalogue"
    folder.mkdir(exist_ok=True)
    mode = PrintMode.objects.get(name="Deck charts")
    pack = supplied_pack(
        mode, "kelp-petrel", "Sound & Shoal", version, "synthetic chart paper", f"version {version}"
    )
    (folder / f"kelp-petrel-{version}.zip").write_bytes(pack)


def two_profiles() -> None:
    """Two profiles of one printer with different separations."""
    from greyanchor.core.formats import cgats
    from greyanchor.core.profiling.build import build_profile
    from greyanchor.profiles.services import keep_profile
    from greyanchor.profiles.settings import settings_from
    from tests.web.test_profiles import OPTIONS, readings_text

    readings = cgats.loads(readings_text("petrel-44", "CMYK", 320).encode())
    result = build_profile(readings, settings_from(OPTIONS, "Quay draft"))
    for title, start in (("Quay draft", 25.0), ("Last year", 60.0)):
        keep_profile(result, title, 4, {**OPTIONS, "black_start": start}, {}, None)


def harbour_proof() -> None:
    """One released mode with a profile of its own, and no build."""
    from greyanchor.core.charts import patches
    from greyanchor.core.printing.environment import PrintEnvironment
    from greyanchor.core.profiling.build import build_profile
    from greyanchor.library.models import Media, Printer, PrintMode
    from greyanchor.profiles.services import keep_profile
    from greyanchor.profiles.settings import settings_from
    from tests.conftest import make_room
    from tests.web.conftest import CHOICES

    room = make_room("petrel-44")
    options = {
        "total_ink": 300.0,
        "black_start": 25.0,
        "black_strength": 50.0,
        "max_black": 100.0,
        "width": 100.0,
        "version": 4,
        "quality": "draft",
    }
    readings = room.read(patches.profile_patches(400, 3.0))
    result = build_profile(readings, settings_from(options, "Harbour proof"))
    printer, media = (
        Printer.objects.get(name="Petrel 44"),
        Media.objects.get(name="Harbour Proof Semimatt 235"),
    )
    environment = PrintEnvironment(printer.model, "Tarn pigment", media.name, **CHOICES)
    PrintMode.objects.create(
        name="Harbour proof",
        printer=printer,
        ink_set=printer.ink_sets.get(name="Tarn pigment"),
        media=media,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        state="released",
        limits={c: 100 * v for c, v in room.limits.items()},
        curves=room.curves.to_csv(),
        profile=keep_profile(result, "Harbour proof", 4, options, {}, None),
    )


def magenta_drifts() -> None:
    """The simulated Petrel prints too much magenta."""
    from greyanchor.demo.devices import drift
    from greyanchor.library.models import Printer

    drift(Printer.objects.get(name="Petrel 44"), {"M": 1.2})


def print_room() -> None:
    """A released mode and what it printed: a job, runs in every state, a print with faults, a roll, and a
    delivery folder.
    """
    from django.core.files.base import ContentFile
    from django.utils import timezone

    from greyanchor.background import queue
    from greyanchor.delivery import folders
    from greyanchor.library.models import PrintMode
    from greyanchor.printroom import intake, jobs, run_preparing, runs, trials
    from greyanchor.printroom.models import MediaRoll, Print, PrintFile, Run
    from greyanchor.printroom.prints import length_of
    from tests.web.printroom.conftest import picture

    released_mode()
    user, mode = _users()["ines"], PrintMode.objects.get(name="Quay proof")
    art, _ = intake.add(ContentFile(picture()), "lit balls.png", user)
    queue.run(art)
    art.refresh_from_db()
    job = jobs.make_job(art, user, mode, choices={"width_mm": 40.0})
    waits = runs.make([job], user, "Waits")
    waits = runs.change(waits, {"fill": {"share": 0.9}}, waits.version)
    runs.wait_to_fill(waits, waits.version)
    closed = runs.make([job], user, "Prepared")
    queue.run(run_preparing.order_run(Run.objects.get(pk=closed.pk), user))
    record = PrintFile.objects.get(run=closed)
    runs.make([job], user, "On the table")
    roll = MediaRoll.objects.create(
        printer=mode.printer, media=mode.media.name, width_mm=1118.0, first_mm=30_000.0, left_mm=29_000.0,
        seen_at=timezone.now(),
    )  # fmt: skip
    done = Print.objects.create(
        print_file=record, printer=mode.printer, roll=roll, key="done", state="done", media=mode.media.name,
        media_mm=length_of(record), ink_ml=record.facts["ink_ml"], ink_total_ml=0.1, asked_by=user,
        picture=run_preparing.art_name(record), sent_at=timezone.now(), ended_at=timezone.now(),
    )  # fmt: skip
    trials.mark_fault(done, "banding", 0.5, 0.5, user, "in the middle")
    folders.make("Proofing", "proofing", ["profile"], user)
    folders.sweep()


if __name__ == "__main__":
    import django

    django.setup()
    globals()[sys.argv[1]](*sys.argv[2:])
