"""Runs: jobs put together on the media of one machine, changed, undone, and let go when they are full."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import USE, needs
from greyanchor.core.cutting.paths import CutRules
from greyanchor.core.errors import BadInput
from greyanchor.core.layout import runs as layout
from greyanchor.core.printing import handling
from greyanchor.library.models import PrintMode
from greyanchor.printroom import prints, run_pieces, run_preparing
from greyanchor.printroom.models import Job, Print, Run, RunJob

_STEPS = 50
MOST_JOBS, MOST_COPIES = 200, 1000
#: what becomes of contours
CUTTING = {
    "": "not cut",
    "now": "print and cut",
    "later": "print, cut only after laminating",
}
#: settings that may be changed for one run, and switches
AFTER = ("pass_pause", "sheet_pause", "overprints")
SWITCHES = {"cut_off": "Cut off when it is done", "take_up": "Wind it up"}
_CHANGEABLE = ("rules", "places", "by_hand", "strip", "after", "cutting", "fill", "goes", "name")


@needs(USE)
@transaction.atomic
def make(jobs: Iterable[Job], user: User | None, name: str = "") -> Run:
    """Lay jobs of one print mode on a new run. Raises `BadInput` for jobs of several modes, or of none."""
    chosen = list(jobs)
    if not chosen:
        raise BadInput("choose the jobs that lie on the run")
    mode = _mode_of(chosen)
    run = Run.objects.create(
        name=(name or _name(chosen))[:200],
        printer=mode.printer,
        mode=mode,
        width_mm=width_of(mode),
        rules=layout.Rules().as_dict(),
        made_by=user,
    )
    _put_on(run, chosen)
    _lay(run)
    run.save()
    return run


def _mode_of(jobs: Sequence[Job]) -> PrintMode:
    first = jobs[0]
    for job in jobs:
        if job.mode is None:
            raise BadInput(f"{job.name} has no print mode yet: choose one first")
        if job.mode_id != first.mode_id:
            assert first.mode is not None
            raise BadInput(
                f"{first.name} goes through {first.mode.name}, {job.name} through {job.mode.name}: a run has "
                "one print mode"
            )
    assert first.mode is not None
    return first.mode


def _name(jobs: Sequence[Job]) -> str:
    more = len(jobs) - 1
    return jobs[0].name if not more else f"{jobs[0].name} and {more} more"


def width_of(mode: PrintMode) -> float:
    """Media that is in the machine, as it says itself; as the library has it where it does not answer."""
    known = min(float(mode.media.width_mm), float(mode.printer.width_mm))
    try:
        said = prints.machine_of(mode.printer)
    except BadInput:
        return known
    wrong_media = bool(said.media) and said.media != mode.media.name
    return said.width_mm if said.width_mm and not wrong_media else known


def _put_on(run: Run, jobs: Iterable[Job]) -> None:
    last = run.parts.count()
    for job in jobs:
        if run.parts.filter(job=job).exists():
            raise BadInput(f"{job.name} lies on this run already: change its copies there")
        if last >= MOST_JOBS:
            raise BadInput(f"a run holds at most {MOST_JOBS} jobs")
        run_pieces.parts_of_job(job)
        copies = min(int(job.choices.get("copies", 1)), MOST_COPIES)
        RunJob.objects.create(run=run, job=job, copies=copies, place=last)
        last += 1


def _lay(run: Run) -> None:
    run.places, run.by_hand = run_pieces.placed(run)


# --- changing --------------------------------------------------------------------------------


@needs(USE)
@transaction.atomic
def put_on(run: Run, jobs: Iterable[Job], version: int | None = None) -> Run:
    """Lay further jobs on a run. Raises `BadInput` where they go through another mode."""
    chosen = list(jobs)
    if _mode_of(chosen).pk != run.mode_id:
        raise BadInput(f"{chosen[0].name} goes through another mode than {run.mode.name}, which this run has")
    return _changed(run, version, lambda r: _put_on(r, chosen))


@needs(USE)
@transaction.atomic
def take_off(run: Run, job: int, version: int) -> Run:
    """Take a job off a run; the last one stays."""

    def change(r: Run) -> None:
        if r.parts.count() < 2:
            raise BadInput("the last job stays on its run: delete the run instead")
        r.parts.filter(job=job).delete()

    return _changed(run, version, change)


@needs(USE)
@transaction.atomic
def change(run: Run, values: Mapping[str, Any], version: int) -> Run:
    """Change how a run is laid out, what goes with it, and what happens after it.

    `values` may hold ``rules``, ``strip``, ``after``, ``cutting``, ``fill``, ``goes``, ``name``, and
    ``copies`` and ``turn`` by job. Raises `BadInput` for what cannot be.
    """

    def apply(r: Run) -> None:
        if "rules" in values:
            r.rules = layout.Rules.of({**r.rules, **values["rules"]}).as_dict()
        if "strip" in values:
            r.strip = _checked_strip(r, values["strip"])
        if "after" in values:
            r.after = _checked_after(r, values["after"])
        if "cutting" in values:
            r.cutting = _checked_cutting(values["cutting"])
            if r.cutting.get("what") == "later" and not r.rules.get("cutter"):
                r.rules = {**r.rules, "cutter": True}
        if "fill" in values:
            r.fill = _checked_fill(values["fill"])
        if "goes" in values:
            r.goes = bool(values["goes"])
        if str(values.get("name", "")).strip():
            r.name = str(values["name"]).strip()[:200]
        _set_parts(r, values.get("copies", {}), values.get("turn", {}))

    return _changed(run, version, apply)


def _set_parts(run: Run, copies: Mapping[int, int], turn: Mapping[int, bool]) -> None:
    for part in run.parts.all():
        count = int(copies.get(part.job_id, part.copies))
        if not 1 <= count <= MOST_COPIES:
            raise BadInput(f"{count} copies cannot be printed; 1 to {MOST_COPIES} can")
        may_turn = bool(turn.get(part.job_id, part.turn))
        if (count, may_turn) != (part.copies, part.turn):
            run.parts.filter(pk=part.pk).update(copies=count, turn=may_turn)


@needs(USE)
@transaction.atomic
def place(run: Run, places: Sequence[Mapping[str, Any]], version: int) -> Run:
    """Lay pieces by hand. Raises `BadInput` where they lie over one another or off the media, or where a
    piece is missing.
    """

    def apply(r: Run) -> None:
        sizes = {p.id: p for p in run_pieces.pieces_of(r)}
        found = []
        for asked in places:
            piece = sizes.get(str(asked.get("id")))
            if piece is None:
                raise BadInput("a piece that was moved is no longer on this run: look at it again")
            turned = bool(asked.get("turned"))
            if turned and not piece.turn:
                raise BadInput(f"{piece.called} may not be turned")
            size = (piece.height, piece.width) if turned else (piece.width, piece.height)
            found.append({**asked, "width": size[0], "height": size[1]})
        laid = layout.placed_from(found)
        wanted = {(p.id, c) for p in sizes.values() for c in range(1, p.copies + 1)}
        if {(p.id, p.copy) for p in laid} != wanted or len(laid) != len(wanted):
            raise BadInput("not every piece has a place: look at the run again")
        layout.check_places(laid, r.laid_by, r.width_mm, {p.id: p.called for p in sizes.values()})
        r.places, r.by_hand = [run_pieces.as_values(p) for p in laid], True

    return _changed(run, version, apply)


@needs(USE)
@transaction.atomic
def lay_again(run: Run, version: int) -> Run:
    """Forget what was laid by hand, and ask the machine again how wide its media is."""

    def apply(r: Run) -> None:
        r.by_hand, r.width_mm = False, width_of(r.mode)

    return _changed(run, version, apply)


@needs(USE)
@transaction.atomic
def undo(run: Run, version: int, way: str = "undo") -> Run:
    """Take the last change back, or bring it back. Raises `BadInput` where there is none."""
    run = _locked(run, version)
    there, back = (run.undo, run.redo) if way == "undo" else (run.redo, run.undo)
    if not there:
        raise BadInput("nothing was changed that could be undone" if way == "undo" else "nothing was undone")
    back.append(_state(run))
    state = there.pop()
    for name in _CHANGEABLE:
        setattr(run, name, state[name])
    run.parts.all().delete()
    RunJob.objects.bulk_create(RunJob(run=run, **facts) for facts in state["parts"])
    run.version += 1
    run.save()
    return run


@needs(USE)
@transaction.atomic
def copy(run: Run, user: User | None) -> Run:
    """The same jobs laid out once more, to be changed: what was prepared stays as it is."""
    parts = list(run.parts.all())
    made = Run.objects.get(pk=run.pk)
    made.pk, made.state, made.version, made.made_by = None, Run.State.OPEN, 1, user
    made.undo, made.redo, made.fills_since, made._state.adding = [], [], None, True
    made.save()
    RunJob.objects.bulk_create(
        RunJob(run=made, job_id=p.job_id, copies=p.copies, panels=p.panels, turn=p.turn, place=p.place)
        for p in parts
    )
    return made


@needs(USE)
@transaction.atomic
def rest_of(record: Print, user: User | None) -> Run:
    """What a print that broke off did not finish, as a run of its own: pieces that ended behind the place
    where it stopped.

    Raises `BadInput` for a print that is not over, has no run, or is whole.
    """
    run = record.print_file.run
    if run is None:
        raise BadInput("this print is of one job: print it again")
    if record.state not in (Print.State.FAILED, Print.State.CANCELLED):
        raise BadInput(f"{record} is {record.get_state_display()}: nothing of it is missing")
    laid = run_pieces.drawn(run)
    reached = record.share * laid.length
    missing = [p for p in laid.pieces if p.y + p.height > reached and p.id != layout.STRIP]
    if not missing:
        raise BadInput("every piece was printed whole")
    made = copy(run, user)
    made.name, made.by_hand = f"Rest of {run.name}"[:200], False
    ids = [p.id for p in missing]
    for part in made.parts.select_related("job__artwork"):
        mine = {p.panel: ids.count(p.id) for p in run_pieces.parts_on(part) if p.id in ids}
        if not mine:
            part.delete()
            continue
        part.panels, part.copies = sorted(n for n in mine if n), max(mine.values())
        part.save(update_fields=["panels", "copies"])
    _lay(made)
    made.save()
    return made


@needs(USE)
@transaction.atomic
def panels_again(run: Run, job: int, panels: Sequence[int], user: User | None) -> Run:
    """Some panels of a job on a run of their own. Raises `BadInput` where the job has none of them."""
    source = run.parts.filter(job=job).first()
    if source is None:
        raise BadInput("that job is not on this run")
    made = copy(run, user)
    made.parts.exclude(job=job).delete()
    made.parts.update(copies=1, panels=sorted(panels))
    named = ", ".join(map(str, sorted(panels)))
    made.name = f"{source.job.name}, panel{'s' if len(panels) > 1 else ''} {named} again"[:200]
    made.by_hand, made.strip = False, {}
    _lay(made)
    made.save()
    return made


@needs(USE)
def fill_sweep() -> int:
    """Prepare runs that waited to fill and are full; how many. Of two that try, one does."""
    begun = 0
    for run in Run.objects.filter(state=Run.State.FILLING).select_related("mode__printer"):
        why = is_full(run)
        if why:
            try:
                run_preparing.order_run(run, run.made_by)
            except BadInput as error:
                Run.objects.filter(pk=run.pk, state=Run.State.FILLING).update(
                    state=Run.State.OPEN, note=error.sentence[:300]
                )
                continue
            Run.objects.filter(pk=run.pk).update(note=f"It went by itself: {why}.")
            begun += 1
    return begun


@needs(USE)
@transaction.atomic
def remove(run: Run) -> None:
    """Forget a run that was never prepared; its jobs stay."""
    if run.print_files.exists():
        raise BadInput(f"{run.name} was prepared: it stays with its prints")
    run.delete()


def _changed(run: Run, version: int | None, apply: Callable[[Run], None]) -> Run:
    run = _locked(run, version)
    before = _state(run)
    kept_by_hand = run.places
    apply(run)
    if run.places is kept_by_hand:
        _lay(run)
    if _state(run) == before:
        return run
    run.undo, run.redo = [*run.undo, before][-_STEPS:], []
    run.version += 1
    run.save()
    return run


def _locked(run: Run, version: int | None) -> Run:
    wanted = Run.objects.select_for_update(of=("self",)).select_related(
        "mode__printer", "mode__media", "mode__profile"
    )
    found = wanted.get(pk=run.pk)
    if version is not None and found.version != version:
        raise BadInput("somebody else changed this run since you opened it; look at it again, then change it")
    if found.state == Run.State.CLOSED:
        raise BadInput(f"{found.name} is prepared and stays as it is: make a copy of it to change")
    return found


def _state(run: Run) -> dict[str, Any]:
    parts = list(run.parts.values("job_id", "copies", "panels", "turn", "place"))
    return {**{name: getattr(run, name) for name in _CHANGEABLE}, "parts": parts}


# --- what goes with it -----------------------------------------------------------------------


def _checked_strip(run: Run, values: Mapping[str, Any]) -> dict[str, Any]:
    if not values.get("kind"):
        return {}
    if not run_pieces.can_carry_strip(run):
        raise BadInput(f"strips are printed with C, M, Y and K; {run.mode.name} has other inks or no profile")
    if not values.get("tolerances"):
        raise BadInput("choose what the strip is held to")
    kept = {k: values.get(k) for k in ("kind", "method", "tolerances", "aim")}
    return {**kept, "corrected": bool(values.get("corrected"))}


def _checked_after(run: Run, values: Mapping[str, Any]) -> dict[str, Any]:
    asked = {k: float(values[k]) for k in AFTER if values.get(k) not in (None, "")}
    found = handling.checked(asked, run.printer.ability_map)
    return {**found, **{key: True for key in SWITCHES if values.get(key)}}


def _checked_cutting(values: Mapping[str, Any]) -> dict[str, Any]:
    what = str(values.get("what") or "")
    if what not in CUTTING:
        raise BadInput(f"contours are {', '.join(CUTTING.values())}")
    if not what:
        return {}
    rules = CutRules.of({k: values.get(k) or 0.0 for k in ("bleed", "double", "weed")})
    return {"what": what, "bleed": rules.bleed, "double": rules.double, "weed": rules.weed}


def _checked_fill(values: Mapping[str, Any]) -> dict[str, Any]:
    found = {}
    if values.get("share"):
        share = float(values["share"])
        if not 0.05 <= share <= 1.0:
            raise BadInput("a run waits until 5 to 100 % of the width are used")
        found["share"] = share
    if values.get("minutes"):
        minutes = float(values["minutes"])
        if not 1.0 <= minutes <= 10_080.0:
            raise BadInput("a run waits 1 minute to 7 days")
        found["minutes"] = minutes
    return found


# --- waiting to fill -------------------------------------------------------------------------


@needs(USE)
@transaction.atomic
def wait_to_fill(run: Run, version: int) -> Run:
    """Let a run wait until it is full enough, or long enough; then it is prepared by itself."""
    run = _locked(run, version)
    if not run.fill:
        raise BadInput("say what the run waits for: a share of the width, or a time")
    run.state, run.fills_since = Run.State.FILLING, timezone.now()
    run.version += 1
    run.save()
    return run


@needs(USE)
@transaction.atomic
def stop_waiting(run: Run, version: int) -> Run:
    """Lay a run that waited to fill on the table again."""
    run = _locked(run, version)
    run.state, run.fills_since = Run.State.OPEN, None
    run.version += 1
    run.save()
    return run


def is_full(run: Run) -> str:
    """Why a run that waits to fill goes now; empty while it waits."""
    share = run.fill.get("share")
    if share and run_pieces.drawn(run).width_used >= share - 1e-9:
        return f"{100 * share:.0f} % of the width are used"
    minutes = run.fill.get("minutes")
    if minutes and run.fills_since and (timezone.now() - run.fills_since).total_seconds() >= 60 * minutes:
        return f"it waited {minutes:g} minutes"
    return ""
