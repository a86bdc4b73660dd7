"""What was printed: narrowed by all that a print comes from, and summed up."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db.models import Count, F, Q, QuerySet, Sum
from django.utils import timezone

from greyanchor.library.models import Edition
from greyanchor.printroom.models import Print, PrintFile, week_of

WEEKS = 12
#: by what ink and media are summed up: words, field of a print, and how many rows at most
BY: dict[str, tuple[str, str]] = {
    "week": ("Week", "week"),
    "mode": ("Print mode", "mode__name"),
    "machine": ("Machine", "printer__name"),
    "job": ("Job or run", "print_file__job__name"),
    "media": ("Media", "media"),
    "person": ("Asked for by", "asked_by__username"),
}
_MOST_ROWS = 100
_ASKED = (
    "q",
    "mode",
    "edition",
    "printer",
    "state",
    "artwork",
    "job",
    "run",
    "roll",
    "profile",
    "curves",
    "reading",
    "verdict",
    "week",
)


@dataclass(frozen=True)
class Used:
    """What some prints took together."""

    name: str
    prints: int
    ink_ml: float
    media_m: float
    passed: int = 0
    failed: int = 0

    def share_of(self, most: float) -> float:
        """Its ink as a share of the most, percent."""
        return 100.0 * self.ink_ml / most if most else 0.0


def asked_of(query: Mapping[str, str]) -> dict[str, str]:
    """What a query asks for, empty where it asks nothing."""
    return {k: str(query.get(k, "")).strip()[:120] for k in _ASKED}


def narrowed(asked: Mapping[str, str], in_order: bool = True) -> QuerySet[Print]:
    """Prints that a machine has had, narrowed by words, by all that they come from, and by how they ended;
    `in_order` says that the newest will be looked at, not all be counted.
    """
    found = Print.objects.all()
    if asked["state"] in Print.State.values:
        found = found.filter(state=asked["state"])
    else:
        found = found.filter(sent_at__isnull=False)
    for word in asked["q"].split():
        # few files, modes and media stand for many prints: they are looked through first
        named = Q(job__name__icontains=word) | Q(run__name__icontains=word) | Q(mode__name__icontains=word)
        of_media = Print.objects.order_by("media").values_list("media", flat=True).distinct()
        # for the newest, going through prints in their order beats sorting what an index finds
        of_file = F("print_file_id") + 0 if in_order else F("print_file_id")
        found = found.alias(of_file=of_file).filter(
            Q(of_file__in=PrintFile.objects.filter(named).order_by().values("pk"))
            | Q(media__in=[m for m in of_media if word.casefold() in m.casefold()])
        )
    for key, fields in (
        ("mode", ("mode",)),
        ("printer", ("printer",)),
        ("roll", ("roll",)),
        ("run", ("print_file__run",)),
        ("job", ("print_file__job", "print_file__run__parts__job")),
        ("artwork", ("print_file__job__artwork", "print_file__run__parts__job__artwork")),
        ("profile", ("print_file__edition__profile",)),
        ("curves", ("print_file__edition__curve_set",)),
        ("edition", ("print_file__edition__number",)),
    ):
        if asked[key].isdecimal():
            wanted = Q()
            for field in fields:
                wanted |= Q(**{field: int(asked[key])})
            found = found.filter(wanted)
            if len(fields) > 1:
                found = found.distinct()
    if asked["reading"]:
        found = found.filter(print_file__edition__in=editions_from(asked["reading"]))
    if asked["verdict"] in ("pass", "fail"):
        found = found.filter(check_print__made_check__verdict=asked["verdict"])
    elif asked["verdict"] == "none":
        found = found.filter(check_print__made_check=None)
    return found


def editions_from(sha256: str) -> list[int]:
    """Editions that rest on a reading."""
    found = Edition.objects.only("readings")
    return [e.pk for e in found if any(r.get("sha256", "").startswith(sha256) for r in e.readings)]


def used(found: QuerySet[Print], by: str, weeks: int = WEEKS) -> list[Used]:
    """Ink and media of prints by week (the last ones, in order), or by another of `BY` (the most first)."""
    field = BY[by][1]
    rows = found.filter(ended_at__isnull=False).order_by()
    if by == "week":
        first = week_of(timezone.now()) - timedelta(weeks=weeks - 1)
        rows = rows.filter(week__gte=first)
    sums = rows.values(name=F(field)).annotate(
        count=Count("pk"),
        ink=Sum("ink_total_ml"),
        media=Sum("media_mm"),
        passed=Count("pk", filter=Q(check_print__made_check__verdict="pass")),
        failed=Count("pk", filter=Q(check_print__made_check__verdict="fail")),
    )
    made = [
        Used(
            _named(r["name"], by),
            r["count"],
            r["ink"] or 0.0,
            (r["media"] or 0.0) / 1000.0,
            r["passed"],
            r["failed"],
        )
        for r in (sums.order_by("name") if by == "week" else sums.order_by("-ink")[:_MOST_ROWS])
    ]
    return made


def _named(value: Any, by: str) -> str:
    if by == "week":
        return f"{value:%-d %b %Y}"
    return str(value) if value else "several jobs" if by == "job" else "not known"


#: columns of the prints as a file
COLUMNS = (
    "print",
    "what",
    "mode",
    "edition",
    "machine",
    "serial",
    "media",
    "roll",
    "media m",
    "ink ml",
    "asked for",
    "by",
    "began",
    "ended",
    "how it ended",
    "reason",
    "check",
    "verdict",
)
MOST_IN_FILE = 100_000


def lines_of(found: QuerySet[Print]) -> Any:
    """Prints as lines of values, for a file; the newest first."""
    ready = found.select_related(
        "print_file__job",
        "print_file__run",
        "print_file__mode",
        "print_file__edition",
        "printer",
        "asked_by",
        "check_print__made_check",
    ).defer(
        "print_file__facts",
        "print_file__choices",
        "print_file__ticket",
        "print_file__edition__content",
        "print_file__mode__environment",
        "check_print__made_check__result",
        "check_print__made_check__readings",
    )
    for p in ready[:MOST_IN_FILE].iterator(chunk_size=2000):
        check = p.check_print.made_check if p.check_print else None
        yield (
            p.pk,
            str(p.print_file),
            p.print_file.mode or "",
            p.print_file.edition.number if p.print_file.edition else "",
            p.printer.name,
            p.printer.serial,
            p.media,
            p.roll_id or "",
            f"{p.metres:.3f}",
            f"{p.ink_total_ml:.3f}",
            _time(p.asked_at),
            p.asked_by or "",
            _time(p.started_at),
            _time(p.ended_at),
            p.state,
            p.reason,
            check.pk if check else "",
            check.verdict if check else "",
        )


def _time(moment: Any) -> str:
    return f"{timezone.localtime(moment):%Y-%m-%d %H:%M:%S}" if moment else ""


def before_and_after(mode: int) -> list[tuple[Print, Print]]:
    """Prints of one artwork made through two editions of a mode, the earlier first: what a restore changed.

    For each change from an edition to the next that was printed with, the newest print of the same job or
    artwork on both sides; the latest change first.
    """
    done = (
        Print.objects.filter(mode=mode, state=Print.State.DONE, print_file__edition__isnull=False)
        .exclude(picture="")
        .select_related("print_file__edition", "print_file__job", "print_file__run")
        .defer("print_file__facts", "print_file__choices", "print_file__edition__content")
        .order_by("-ended_at")[:400]
    )
    newest: dict[tuple[int, str], Print] = {}
    for record in done:
        assert record.print_file.edition is not None
        newest.setdefault((record.print_file.edition.number, _subject(record)), record)
    found = []
    for (number, subject), after in newest.items():
        earlier = [n for n, s in newest if s == subject and n < number]
        if earlier:
            found.append((newest[max(earlier), subject], after))
    return sorted(found, key=lambda pair: -pair[1].pk)[:12]


def _subject(record: Print) -> str:
    """What a print shows, whatever it was printed through."""
    ticket = record.print_file.ticket
    if "artwork" in ticket:
        return f"{ticket['artwork']} {ticket.get('page')} {ticket.get('panel')}"
    return " ".join(sorted(f"{j['artwork']} {j['page']} {j['panel']}" for j in ticket.get("jobs", [])))
