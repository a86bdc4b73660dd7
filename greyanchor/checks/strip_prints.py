"""Control strips printed for a check: laid out, printed through the mode, read, and judged when read."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Exists, OuterRef, Q, QuerySet
from django.urls import reverse
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, USE, needs
from greyanchor.checks.models import Check, CheckAmendment, CheckPrint, StripRecord
from greyanchor.checks.services import Order, Subject, make_check
from greyanchor.core.charts import strips
from greyanchor.core.charts.layout import check_travel
from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, readings_file
from greyanchor.core.measurement.readings import ReadingSet, is_additive
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.inks import WHITE
from greyanchor.core.profiling.recipes import Recipes, find_recipes
from greyanchor.core.verification import aims, own_inks
from greyanchor.core.verification.aims import strip_through_profile
from greyanchor.core.verification.spots import SpotColour
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import Chart, ReadingPass, SheetPrint, written
from greyanchor.measuring.pipelines import dry_minutes, mode_pipeline, sent_channels
from greyanchor.measuring.printing import prepare_print
from greyanchor.measuring.services import averaged
from greyanchor.profiles.aims import keep_aim
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import model_of, parsed, separation_options
from greyanchor.profiles.settings import separation_from

CMYK = tuple("CMYK")
#: how long after its first reading a strip still waits for a second
SECOND_READING = timedelta(days=1)


@dataclass(frozen=True)
class StripChoice:
    """Which strip, and how it lies: `kind` is one of ours by name, or ``own:`` and the number of a shop's
    strip.

    `through` is ``profile``, so that the aim's colours are asked for, or ``curves``, so that the strip's own
    values are printed: grey balance and evenness are looked at that way.
    """

    kind: str = "full"
    page: str = "a4"
    method: str = "strip"
    through: str = "profile"


def strip_choices() -> list[tuple[str, str]]:
    """All strips for forms: ours, then the shop's."""
    ours = [(s.name, f"{s.title} ({s.purpose})") for s in strips.STRIPS.values()]
    return [*ours, *((f"own:{pk}", name) for pk, name in StripRecord.objects.values_list("pk", "name"))]


def strip_chart(choice: StripChoice, spots: Iterable[tuple[str, Array]] = (), title: str = "") -> ReadingSet:
    """The chosen strip laid out, with patches for spot colours: their names, and the CMYK that stands for
    them.
    """
    meta = {"DESCRIPTOR": title} if title else {}
    if not choice.kind.startswith("own:"):
        return strips.of_kind(choice.kind, choice.page, choice.method, list(spots), meta)
    number = choice.kind.removeprefix("own:")
    record = StripRecord.objects.filter(pk=int(number) if number.isdecimal() else 0).first()
    if record is None:
        raise BadInput("that control strip is no longer there")
    chart = record.chart
    device, names = strips.with_spots(chart.values(), list(spots))
    parts = (*(chart.names or ("",) * len(chart)), *names[len(chart) :])
    return strips.lay_out_strip(
        device, choice.page, choice.method, parts, chart.meta.get("REPEATS") == "averaged", meta=meta
    )


def recipes_on(profile: Profile, colours: Iterable[SpotColour]) -> Recipes:
    """The inks of this profile's printer that print spot colours nearest."""
    lab = np.array([c.lab for c in colours], dtype=float).reshape(-1, 3)
    return find_recipes(model_of(profile), separation_from(separation_options(profile)), lab)


@needs(USE)
@transaction.atomic
def start_check_print(mode: PrintMode, order: Order, choice: StripChoice, user: User) -> CheckPrint:
    """Lay out a strip for a mode and settle what is sent to the printer; nothing is on paper yet.

    Raises `BadInput` when the mode lacks what the strip is printed through.
    """
    media = mode.media
    check_travel(choice.method, media.name, media.travels_backwards, not media.unreadable)
    if choice.through == "profile" and mode.profile is None:
        raise BadInput(f"{mode.name} has no profile, so the aim's colours cannot be asked for")
    spots = list(order.spots.values())
    recipes = recipes_on(mode.profile, spots) if spots and mode.profile else None
    inks = parsed(mode.profile).inks if mode.profile else CMYK
    named = []
    for i, c in enumerate(spots):
        kept = mode.recipe_of(c.name, c.lab)  # what jobs print
        found = recipes.inks[i] if recipes else np.zeros(len(inks))
        named.append((c.name, found if kept is None else np.array(kept)))
    whole = choice.through == "profile" and order.tolerances != "uniformity"
    own = own_patches(mode) if whole else []
    looks = [(name, _process(values, inks)) for name, values in named]
    chart = strip_chart(choice, [*looks, *((n, np.zeros(4)) for n in own)], f"{mode.name}: control strip")
    sent = _sent(chart, mode, order, choice.through, dict(named))
    made = keep_check_print(mode, order, chart, with_own(chart, mode, mode_pipeline(mode)(sent)), user)
    made.sheet_print.refresh_from_db()
    return made


def raw_strip(mode: PrintMode, order: Order, chart: ReadingSet) -> Array:
    """What is sent to the printer (n, channels of `sent_channels`) for a strip that goes through the mode to
    the aim: spot colours aside.
    """
    return np.asarray(mode_pipeline(mode)(_sent(chart, mode, order, "profile", {})))


def keep_check_print(
    mode: PrintMode, order: Order, chart: ReadingSet, raw: Array, user: User | None
) -> CheckPrint:
    """A laid-out strip and what is sent of it, as a print that waits: it becomes a check when it is read."""
    environment = PrintEnvironment(**mode.environment)
    record = Chart.objects.create(
        purpose="control-strip",
        title=f"{mode.name}: control strip",
        text=written(replace(chart, meta={**chart.meta, "PRINT_CONDITIONS": environment.label()})),
        content_hash=chart.content_hash(),
    )
    job = prepare_print(
        record,
        environment,
        lambda _device: raw,
        "",
        mode.printer,
        sent_of(mode, raw),
        dry_minutes(mode.ink_set, mode.media),
    )
    made = CheckPrint.objects.create(
        mode=mode,
        sheet_print=job,
        aim=order.aim,
        tolerances=order.tolerances,
        corrected=order.corrected,
        spots={c.name: c.as_dict() for c in order.spots.values()},
        against=order.against,
        started_by=user,
    )
    SheetPrint.objects.filter(pk=job.pk).update(origin=reverse("check-print", args=[made.pk]))
    return made


def _process(values: Array, inks: tuple[str, ...]) -> Array:
    """About the C, M, Y and K (4,) of values of other inks, for the drawing of a strip."""
    if is_additive(inks):
        return np.append(1.0 - values, 0.0)
    return np.array([values[inks.index(c)] if c in inks else 0.0 for c in CMYK])


def own_patches(mode: PrintMode) -> list[str]:
    """Patches of single inks that a strip of a mode has: further inks, and white."""
    white = _white_of(mode)
    channels = tuple(mode.ink_set.channels)
    return [] if is_additive(channels) else own_inks.names_of(channels, white or "")


def _white_of(mode: PrintMode) -> str | None:
    return next((c for c, p in mode.planes.items() if p.get("kind") == WHITE), None)


def with_own(chart: ReadingSet, mode: PrintMode, raw: Array) -> Array:
    """Raw values of a strip with those of its patches of single inks; white ink is one column more."""
    own = [i for i, n in enumerate(chart.names or ()) if own_inks.is_own(n)]
    if not own:
        return raw
    channels, white = tuple(mode.ink_set.channels), _white_of(mode)
    every = (*channels, white) if white else channels
    device = np.array([own_inks.device_of((chart.names or ())[i], every) for i in own])
    out = np.pad(raw, ((0, 0), (0, 1))) if white else raw.copy()
    out[own, : raw.shape[1]] = mode_pipeline(mode)(device[:, : len(channels)])
    if white:
        curve = np.array(mode.planes[white]["curve"]) / 100.0
        out[own, -1] = np.interp(device[:, -1], np.linspace(0.0, 1.0, len(curve)), curve)
    return out


def sent_of(mode: PrintMode, raw: Array) -> tuple[str, ...]:
    """What the columns of the raw values of a strip are."""
    sent, white = sent_channels(mode.ink_set, mode.splits), _white_of(mode)
    return (*sent, white) if white and raw.shape[1] > len(sent) else sent


def _sent(chart: ReadingSet, mode: PrintMode, order: Order, through: str, recipes: dict[str, Array]) -> Array:
    """Linearized C M Y K (n, 4) of every patch: the aim's colours through the profile, recipes for spot
    colours.
    """
    if through != "profile":
        return chart.values()
    assert mode.profile is not None
    target: aims.Aim = order.target(chart)
    sent = strip_through_profile(chart, target, parsed(mode.profile), order.corrected).values().copy()
    for i, name in enumerate(chart.names or ()):
        if name in recipes:
            sent[i] = recipes[name]
    return np.asarray(sent)


def order_of(found: CheckPrint) -> Order:
    """What a printed strip is held to."""
    return Order(found.aim, found.tolerances, found.corrected, True, spots_from(found.spots), found.against)


def spots_from(values: dict[str, Any]) -> dict[str, SpotColour]:
    """Spot colours from the plain values kept with a check."""
    return {name: SpotColour.from_dict(name, colour) for name, colour in values.items()}


def on_pass_finished(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """Judge a strip when a reading of it is complete; a later reading makes a new check beside the first."""
    found = (
        CheckPrint.objects.select_related("mode__profile", "mode__printer", "aim", "against", "started_by")
        .filter(sheet_print=reading_pass.sheet_print_id)
        .first()
    )
    if found is not None:
        judge(found)


def on_readings_suspect(sender: Any, reading_pass: ReadingPass, **_: Any) -> None:
    """A strip whose readings are suspect is not judged."""
    CheckPrint.objects.filter(sheet_print=reading_pass.sheet_print_id).update(
        error="These readings are suspect; see what to do beside them. They are judged when that is settled."
    )


def waiting_prints(sender: Any, **_: Any) -> QuerySet[Any]:
    """Strips without a verdict, and the last of a mode for a day, as its second reading may still come."""
    lately = Q(sheet_print__passes__finished_at__gte=timezone.now() - SECOND_READING)
    later = CheckPrint.objects.filter(mode=OuterRef("mode"), pk__gt=OuterRef("pk"))
    wanted = Q(made_check=None) | lately & ~Exists(later)
    return CheckPrint.objects.order_by().filter(wanted).values("sheet_print")


def evidence_of_checks(sender: Any, sheet_print: int, **_: Any) -> list[str]:
    """Signed checks that rest on the readings of a print."""
    signed = Check.objects.filter(sheet_print=sheet_print, withdrawn="").exclude(signed_at=None)
    return [f"check {found.pk}, signed" for found in signed.only("pk").order_by("pk")]


def on_evidence_withdrawn(sender: Any, sheet_print: int, reason: str, user: User, **_: Any) -> None:
    """Checks whose readings were withdrawn say so, and count no more."""
    for found in Check.objects.filter(sheet_print=sheet_print, withdrawn=""):
        CheckAmendment.objects.create(
            check_made=found, what="evidence", before="readings", after="withdrawn", why=reason, by=user
        )
        Check.objects.filter(pk=found.pk).update(withdrawn=reason)


def judge(found: CheckPrint) -> Check | None:
    """Make the check of a strip from the mean of its readings; what stands against it is kept with the
    strip.
    """
    job = SheetPrint.objects.select_related("chart").get(pk=found.sheet_print_id)
    subject = Subject(found.mode, found.mode.profile, found.mode.printer, job)
    try:
        made = make_check(subject, averaged(job), order_of(found), found.started_by)
    except BadInput as error:
        found.made_check, found.error = None, error.sentence[:400]
    else:
        found.made_check, found.error = made, ""
    found.save(update_fields=["made_check", "error"])
    return found.made_check


@needs(MAKE)
@transaction.atomic
def keep_strip(name: str, data: bytes, file_name: str, user: User | None) -> StripRecord:
    """Store a control strip that a file describes; `BadInput` when it is none, or its name is taken."""
    chart = strips.from_chart(readings_file.loads(data, file_name))
    name = name.strip() or chart.meta.get("DESCRIPTOR", "") or file_name
    if StripRecord.objects.filter(name=name).exists():
        raise BadInput(f"there is a control strip called {name} already; choose another name")
    return StripRecord.objects.create(
        name=name[:120], text=cgats.dumps(chart), source=f"file {file_name}"[:200], created_by=user
    )


@needs(MAKE)
@transaction.atomic
def keep_aim_of(check: Check, name: str, user: User | None) -> AimRecord:
    """The readings of a check as an aim: what later prints of the mode are held to."""
    subject = check.mode.name if check.mode else check.title
    source = f"readings of check {check.pk} of {check.made_at:%-d %B %Y}, {subject}"
    return keep_aim(name, check.readings.encode(), f"check-{check.pk}.txt", source, user, AimRecord.Kind.MODE)
