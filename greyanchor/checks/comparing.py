"""Prints beside each other: two checks, two printers or sites, before and after, and modes against an aim."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.db.models import QuerySet

from greyanchor.accounts.models import Site
from greyanchor.background.cache import kept
from greyanchor.checks.models import Check
from greyanchor.checks.tolerance_sets import tolerance_set
from greyanchor.checks.trends import last_restore
from greyanchor.core.characterization.model import FitReport
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.verification.check import CheckResult
from greyanchor.core.verification.predict import predict
from greyanchor.drawing.patches import patch_map
from greyanchor.library.models import Printer, PrintMode
from greyanchor.measuring.cache import remembered
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.queries import aim_of, parsed

#: checks of a side that its figures are the mean of
OF_EACH = 10
#: modes that are predicted at once
AT_ONCE = 40


@dataclass(frozen=True)
class Side:
    """One side of a comparison: what it is called, and its checks, newest first."""

    title: str
    checks: list[Check]

    def figures(self) -> dict[str, tuple[float, int]]:
        """Mean of each figure by criterion, and how many checks had it."""
        seen: dict[str, list[float]] = {}
        for check in self.checks:
            for c in check.criteria:
                if c["value"] is not None:
                    seen.setdefault(c["id"], []).append(c["value"])
        return {name: (float(np.mean(values)), len(values)) for name, values in seen.items()}


def side(text: str, tolerances: str) -> Side:
    """A side by its address: ``check-12``, ``printer-1``, ``site-1``, ``mode-3``, ``before-3`` or ``after-3``
    (a restore).
    """
    kind, _, number = text.partition("-")
    if not number.isdecimal():
        raise BadInput(f"{text!r} names nothing that can be compared")
    pk = int(number)
    everything = Check.objects.select_related("mode").defer("readings")
    if kind == "check":
        found = everything.filter(pk=pk)
        return Side(_title(found, f"check {pk}"), list(found))
    chosen = everything.filter(tolerances=tolerances)
    if kind == "printer":
        return Side(str(Printer.objects.get(pk=pk)), list(chosen.filter(printer=pk)[:OF_EACH]))
    if kind == "site":
        return Side(str(Site.objects.get(pk=pk)), list(chosen.filter(printer__site=pk)[:OF_EACH]))
    mode = PrintMode.objects.get(pk=pk)
    if kind == "mode":
        return Side(mode.name, list(chosen.filter(mode=pk)[:OF_EACH]))
    since = last_restore(mode)
    if kind not in ("before", "after") or since is None:
        raise BadInput(f"{mode.name} was never restored, so there is no before and after")
    halves = {
        "before": chosen.filter(mode=pk, made_at__lt=since),
        "after": chosen.filter(mode=pk, made_at__gte=since),
    }
    return Side(f"{mode.name}, {kind} the restore of {since:%-d %b}", list(halves[kind][:OF_EACH]))


def _title(found: QuerySet[Check], otherwise: str) -> str:
    check = found.first()
    return f"{check.title}, {check.made_at:%-d %b %Y %H:%M}" if check else otherwise


def compare_sides(a: Side, b: Side) -> dict[str, Any]:
    """Figures of both sides criterion by criterion, and, for two single checks, their prints patch by
    patch.
    """
    if not a.checks or not b.checks:
        empty = a if not a.checks else b
        raise BadInput(f"there is no check of {empty.title} under this tolerance set")
    first, second = a.figures(), b.figures()
    facts = {c["id"]: c for c in [*b.checks[0].criteria, *a.checks[0].criteria]}
    rows = [
        {
            "title": facts[name]["title"],
            "unit": facts[name]["unit"],
            "limit": facts[name]["limit"],
            "a": first[name][0],
            "b": second[name][0],
            "change": second[name][0] - first[name][0],
        }
        for name in facts
        if name in first and name in second
    ]
    result: dict[str, Any] = {"a": a, "b": b, "rows": rows}
    if len(a.checks) == len(b.checks) == 1:
        result |= _patches(a.checks[0], b.checks[0])
    return result


def _patches(a: Check, b: Check) -> dict[str, Any]:
    """Two prints of one strip: how far they lie apart, patch by patch."""
    both = _same_patches(a.result, b.result)
    if not both:
        return {"apart": None}
    first = np.array([a.result["measured"][i] for i, _ in both])
    second = np.array([b.result["measured"][j] for _, j in both])
    apart = delta_e_2000(first, second)
    ids = tuple(a.result["ids"][i] for i, _ in both)
    places = [a.result["rows"], a.result["columns"]]
    rows, columns = (None if p is None else np.array([p[i] for i, _ in both]) for p in places)
    worst = np.argsort(-apart, kind="stable")[:5]
    return {
        "apart": {
            "patches": len(both),
            **FitReport.of(apart).as_dict(),
            "of": len(a.result["ids"]),
        },
        "map": patch_map(ids, first, second, rows, columns, frozenset(ids[i] for i in worst), apart),
    }


def _same_patches(a: dict[str, Any], b: dict[str, Any]) -> list[tuple[int, int]]:
    """Positions of patches that both prints have: by device values and spot colour, or by id where there are
    none.
    """

    def keys(r: dict[str, Any]) -> list[Any]:
        spots = r.get("spots") or [""] * len(r["ids"])
        if r["device"] is None:
            return list(r["ids"])
        return [(*(round(v, 1) for v in d), spot) for d, spot in zip(r["device"], spots)]

    where = {key: j for j, key in reversed(list(enumerate(keys(b))))}
    return [(i, where[key]) for i, key in enumerate(keys(a)) if key in where]


@dataclass(frozen=True)
class Match:
    """How a mode would meet an aim: the check its profile predicts, or why there is none."""

    mode: PrintMode
    result: CheckResult | None
    out_of_reach: int
    error: str

    @property
    def share(self) -> float:
        """Largest share of a limit that is used, percent: what modes are ranked by."""
        if self.result is None:
            return 1e9
        return max((f.used for f in self.result.findings if f.used is not None), default=1e9)


def match_modes(aim: AimRecord, tolerances: str, corrected: bool, modes: Iterable[PrintMode]) -> list[Match]:
    """Modes ranked by how well their profiles can meet an aim, best first."""
    return sorted((_match(mode, aim, tolerances, corrected) for mode in modes), key=lambda m: m.share)


def _match(mode: PrintMode, aim: AimRecord, tolerances: str, corrected: bool) -> Match:
    assert mode.profile is not None
    profile, limits = mode.profile, tolerance_set(tolerances)
    key = ("match", profile.sha256, aim.pk, limits, corrected)

    def predicted() -> Any:
        return predict(parsed(profile), aim_of(aim), limits, corrected)

    try:
        found = remembered(key, lambda: kept(key, predicted))
    except BadInput as error:
        return Match(mode, None, 0, error.sentence)
    return Match(mode, found.result, len(found.out_of_reach), "")
