"""Bringing packs and loose profiles in: received, tested in the background, decided by a person, written all
or not at all.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from greyanchor.accounts.roles import MAKE, RELEASE, NotAllowed, may, needs
from greyanchor.background import queue, shared, work
from greyanchor.core.errors import BadInput
from greyanchor.core.packs import Archive, Pack, read_pack, read_tested, write_archive
from greyanchor.core.packs.archive import file_hash
from greyanchor.core.packs.loose import unpack
from greyanchor.core.profiling.attached import examine
from greyanchor.core.profiling.gamut import HUES, LEVELS
from greyanchor.library.models import Installed, PackImport, PrintMode
from greyanchor.library.packs import import_plan
from greyanchor.library.packs.import_writer import PackWriter
from greyanchor.profiles.models import Profile
from greyanchor.profiles.services import keep_attached

#: most bytes of a pack that is sent
MOST_SENT = 900 * 2**20
_STEP = PackImport.Step
Progress = Callable[[float, str], None]


def folder() -> Path:
    """Where packs wait while they are imported."""
    found = Path(settings.PACKS or Path(settings.HOME) / "packs")
    found.mkdir(parents=True, exist_ok=True)
    return found


def path_of(job: PackImport) -> Path:
    """Where a pack is; fetched where another machine took it in."""
    path = folder() / job.path
    if not path.exists():
        shared.local(f"packs/{job.path}")
    return path


def drop(job: PackImport) -> None:
    """Take the file of a pack away."""
    path_of(job).unlink(missing_ok=True)
    shared.remove(f"packs/{job.path}")


@needs(MAKE)
def receive(
    name: str,
    chunks: Iterable[bytes],
    user: User | None,
    offer: tuple[str, str] = ("", ""),
    wanted_hash: str = "",
) -> PackImport:
    """Keep a pack that was sent and queue its test; `wanted_hash` is the SHA-256 a catalogue promised."""
    job = PackImport.objects.create(
        name=name[:200],
        started_by=user,
        state=PackImport.State.WAITING,
        message="being sent",
        offer_key=offer[0],
        offer_version=offer[1],
    )
    job.path = f"{job.pk}.zip"
    target = path_of(job)
    try:
        size = 0
        with target.open("wb") as opened:
            for chunk in chunks:
                size += len(chunk)
                if size > MOST_SENT:
                    raise BadInput(f"the file has more than {MOST_SENT // 2**20} MB", name)
                opened.write(chunk)
        job.sha256 = file_hash(target)
        if wanted_hash and job.sha256 != wanted_hash:
            raise BadInput(
                "what arrived is not what the catalogue listed: its SHA-256 differs. Nothing was kept",
                name,
            )
    except Exception:
        target.unlink(missing_ok=True)
        job.delete()
        raise
    job.save()
    shared.share(f"packs/{job.path}")
    _queue(job)
    return job


@needs(MAKE)
def receive_profiles(sent: list[tuple[str, bytes]], user: User | None) -> PackImport:
    """Keep loose profiles, or ZIP files of them, and queue their examination."""
    found = unpack(sent)
    name = sent[0][0] if len(sent) == 1 else f"{len(sent)} files"
    job = PackImport.objects.create(name=name[:200], kind=PackImport.Kind.PROFILES, started_by=user)
    job.path = f"{job.pk}.zip"
    files = ((f"{i:04d}.icc", p.data) for i, p in enumerate(found) if p.data)
    write_archive(path_of(job), files)
    shared.share(f"packs/{job.path}")
    job.sha256 = file_hash(path_of(job))
    job.plan = {
        "profiles": [
            {
                "file": p.file[-120:],
                "title": p.description,
                "channels": list(p.channels),
                "version": p.version,
                "sha256": p.sha256 if p.data else "",
                "at": f"{i:04d}.icc" if p.data else "",
                "against": p.against,
            }
            for i, p in enumerate(found)
        ]
    }
    job.save()
    _queue(job)
    return job


def _queue(job: PackImport) -> None:
    PackImport.objects.filter(pk=job.pk).update(
        state=PackImport.State.QUEUED, message="waiting for the worker", progress=0.0, error=""
    )
    queue.start(job)


@needs(MAKE)
def decide(pk: int, values: dict[str, Any], user: User) -> PackImport:
    """Take what a person chose and queue the writing."""
    with transaction.atomic():
        job = PackImport.objects.select_for_update(of=("self",)).get(pk=pk)
        if not job.is_decidable:
            raise BadInput(f"{job.name} is {job.get_step_display()}; it cannot be decided now")
        if job.kind == PackImport.Kind.PACK:
            choices = import_plan.checked_choices(job.plan, values)
            if choices["state"] == "packed" and not may(user, RELEASE):
                raise NotAllowed(user, RELEASE)
            released = PrintMode.objects.filter(
                pk__in=[
                    m["ours"]
                    for m in job.plan["modes"]
                    if choices["modes"].get(m["name"]) == import_plan.UPDATE
                ],
                state=PrintMode.State.RELEASED,
            )
            if released.exists() and not may(user, RELEASE):
                raise NotAllowed(user, RELEASE)
        else:
            usable = {p["at"] for p in job.plan["profiles"] if not p["against"]}
            choices = {"take": [at for at in values.get("take", []) if at in usable]}
            if not choices["take"]:
                raise BadInput("choose at least one profile")
        job.choices, job.step, job.started_by = choices, _STEP.WRITE, user  # type: ignore[assignment]
        job.save()
        _queue(job)
    return job


@needs(MAKE)
def again(pk: int, user: User) -> PackImport:
    """Queue what was interrupted or failed once more; nothing of it was written."""
    job = PackImport.objects.get(pk=pk)
    if (job.is_active and not job.looks_dead) or job.step == _STEP.DONE:
        raise BadInput(f"{job.name} is {job.get_state_display()}; there is nothing to start again")
    _queue(job)
    return job


# --- in the background -----------------------------------------------------------------------


def carry_on(pk: int) -> None:
    """The next step of an import: test and plan it, or write it."""
    job = PackImport.objects.get(pk=pk)
    report = work.progress_of(PackImport, pk)
    if not path_of(job).exists():
        raise BadInput("the file is gone from the server; send it again")
    try:
        _next_step(job, report)
    except BadInput:
        if job.step == _STEP.TEST:  # refused whole: nothing of it is kept
            drop(job)
        raise


def _next_step(job: PackImport, report: Progress) -> None:
    pk = job.pk
    if job.kind == PackImport.Kind.PROFILES:
        _profiles(job, report)
        return
    with Archive(path_of(job), job.name) as archive:
        if job.step == _STEP.WRITE:
            if file_hash(path_of(job)) != job.sha256:
                raise BadInput("the file on the server is not what was tested; send it again")
            pack = read_tested(archive)
            facts = _examined(pack, archive, report)
            report(0.99, f"writing {len(pack.modes)} print modes")
            with transaction.atomic():
                made = PackWriter(job, pack, archive, facts).write()
                PackImport.objects.filter(pk=pk).update(step=_STEP.DONE, result=made)
                work.end(PackImport, pk, PackImport.State.DONE, _summary(made))
        else:
            pack = read_pack(archive, report)
            plan = import_plan.plan_of(pack, supplied_modes(job.offer_key))
            PackImport.objects.filter(pk=pk).update(
                step=_STEP.PLAN, plan=plan, choices=import_plan.usual_choices(plan)
            )
            work.end(PackImport, pk, PackImport.State.WAITING, "waiting for a decision")
    if job.step == _STEP.WRITE:
        drop(job)


def supplied_modes(key: str) -> set[int]:
    """Modes that earlier versions of a pack of the catalogue brought."""
    return set(Installed.objects.filter(key=key).values_list("modes", flat=True)) - {None} if key else set()


def _summary(made: dict[str, Any]) -> str:
    counts = made["counts"]
    return ", ".join(f"{n} {what}" for what, n in counts.items() if n) or "nothing was changed"


def _examined(pack: Pack, archive: Archive, report: Progress) -> dict[str, dict[str, Any]]:
    """What the pages of each new profile show: as the pack says it where it makes sense, else measured
    here.
    """
    known = set(Profile.objects.values_list("sha256", flat=True))
    out: dict[str, dict[str, Any]] = {}
    inks = pack.named("ink_sets")
    wanted = {m["profile"]: m for m in pack.modes if m.get("profile")}
    for i, (file, mode) in enumerate(wanted.items()):
        if pack.manifest["files"][file]["sha256"] in known:
            continue
        report(i / len(wanted), f"looking at profile {i + 1} of {len(wanted)}")
        facts = _facts_text(archive, mode.get("profile_facts"))
        if facts is None:
            channels = tuple(inks[mode["ink_set"]]["channels"])
            found = examine(archive.read(file), file, float(len(channels)), None, channels)
            facts = {
                "report": found.report,
                "neutral": [[round(float(v), 3) for v in row] for row in found.neutral],
                "boundary": [[round(float(v), 2) for v in row] for row in found.gamut.boundary],
                "lightest": found.gamut.lightest,
                "darkest": found.gamut.darkest,
                "settings": {},
                "made_from": {},
                "version": 4,
            }
        out[file] = facts
    return out


def _facts_text(archive: Archive, name: str | None) -> dict[str, Any] | None:
    """The figures of a profile as its pack says them; None where they are not of the form they should be."""
    if not name or name not in archive.sizes():
        return None
    try:
        found = json.loads(archive.read(name))
        boundary, neutral = np.array(found["boundary"], dtype=float), np.array(found["neutral"], dtype=float)
        sound = (
            boundary.shape == (LEVELS, HUES)
            and neutral.ndim in (1, 2)
            and bool(np.isfinite(boundary).all() and np.isfinite(neutral).all())
            and isinstance(found["report"], dict)
            and isinstance(found["settings"], dict)
            and isinstance(found["made_from"], dict)
            and found["version"] in (2, 4)
            and float(found["darkest"]) <= float(found["lightest"])
        )
    except (ValueError, KeyError, TypeError, RecursionError):
        return None
    return found if sound else None


def _profiles(job: PackImport, report: Progress) -> None:
    """Loose profiles: examine each, or write those that were chosen."""
    rows = job.plan["profiles"]
    with Archive(path_of(job), job.name) as archive:
        if job.step == _STEP.WRITE:
            chosen = [r for r in rows if r["at"] in job.choices["take"]]
            found = []
            for i, row in enumerate(chosen):
                report(i / len(chosen), f"looking at {row['title']}")
                data = archive.read(row["at"])
                found.append(
                    (
                        row,
                        data,
                        examine(data, row["file"], float(len(row["channels"])), None, tuple(row["channels"])),
                    )
                )
            with transaction.atomic():
                made = [
                    keep_attached(data, row["title"], e, {"from": f"file {row['file']}"}, job.started_by).pk
                    for row, data, e in found
                ]
                PackImport.objects.filter(pk=job.pk).update(
                    step=_STEP.DONE, result={"profiles": made, "counts": {"created": len(made)}}
                )
                work.end(PackImport, job.pk, PackImport.State.DONE, f"{len(made)} profiles created")
        else:
            known = dict(Profile.objects.values_list("sha256", "pk"))
            for i, row in enumerate(rows):
                report(i / len(rows), f"looking at {row['title']}")
                if not row["against"]:
                    row |= _look(archive.read(row["at"]), row, known)
            PackImport.objects.filter(pk=job.pk).update(step=_STEP.PLAN, plan={"profiles": rows})
            work.end(PackImport, job.pk, PackImport.State.WAITING, "waiting for a decision")
    if job.step == _STEP.WRITE:
        drop(job)


def _look(data: bytes, row: dict[str, Any], known: dict[str, int]) -> dict[str, Any]:
    if row["sha256"] in known:
        return {"ours": known[row["sha256"]], "against": "it is in the library already"}
    try:
        found = examine(data, row["file"], float(len(row["channels"])), None, tuple(row["channels"]))
    except BadInput as error:
        return {"against": error.reason}
    return {"doubts": list(found.doubts), "gamut": found.report.get("gamut_volume")}
