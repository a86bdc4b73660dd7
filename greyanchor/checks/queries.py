"""What pages ask of checks."""

from __future__ import annotations

from typing import Any

import django_filters
import numpy as np
from django.db.models import Q, QuerySet
from django.http import QueryDict

from greyanchor.accounts.models import Site
from greyanchor.checks.models import Check
from greyanchor.checks.services import amended, criterion_facts, patch_facts, summary_of
from greyanchor.checks.tolerance_sets import all_keys, tolerance_set
from greyanchor.core.calibration import g7
from greyanchor.core.verification.guard import SURE
from greyanchor.core.verification.predict import OUT_OF_REACH, predict
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.patches import patch_map
from greyanchor.drawing.proof import balance_view, tone_view, weighted_view
from greyanchor.library.models import Printer, PrintMode
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import aim_of, parsed

WORST = 10
UNITS = {"de00": "dE00", "de76": "dE*ab"}


class CheckFilter(django_filters.FilterSet):
    """Narrowing of the list of checks."""

    q = django_filters.CharFilter(method="by_text", label="Text")
    mode = django_filters.ModelChoiceFilter(queryset=PrintMode.objects, empty_label="any mode")
    printer = django_filters.ModelChoiceFilter(queryset=Printer.objects.all(), empty_label="any printer")
    site = django_filters.ModelChoiceFilter(
        field_name="printer__site", queryset=Site.objects.all(), empty_label="any site"
    )
    tolerances = django_filters.ChoiceFilter(choices=all_keys, empty_label="any tolerance set")
    verdict = django_filters.ChoiceFilter(
        choices=[("pass", "passed"), ("fail", "failed")], empty_label="any verdict"
    )

    class Meta:
        model = Check
        fields = ["q", "mode", "printer", "site", "tolerances", "verdict"]

    def by_text(self, found: QuerySet[Check], _name: str, text: str) -> QuerySet[Check]:
        for word in text.split():
            found = found.filter(
                Q(name__icontains=word)
                | Q(mode__name__icontains=word)
                | Q(aim_name__icontains=word)
                | Q(note__icontains=word)
            )
        return found


def checks(query: QueryDict) -> CheckFilter:
    """The narrowed list, ready for a page."""
    light = Check.objects.select_related("mode", "printer__site").defer(
        "readings", "result", "criteria", "diagnosis", "tolerance_data"
    )
    return CheckFilter(query, queryset=light)


def check_view(check: Check) -> dict[str, Any]:
    """Criteria, patch map, worst patches and grey views of a check, ready for a page."""
    other = check.other_paper.get("values", {})
    criteria = [
        {**c, "other": other.get(c["id"]), "close": check.guard.get("criteria", {}).get(c["id"], 1.0) < SURE}
        for c in check.criteria
    ]
    return {
        "check": check,
        "amended": amended(check),
        "unchanged": check.is_unchanged,
        **result_view(criteria, check.result),
        "greys": grey_views(check),
    }


def prediction_view(record: Profile, aim: AimRecord, tolerances: str, corrected: bool) -> dict[str, Any]:
    """What a check of this profile would say: the same parts, and what is out of reach."""
    found = predict(parsed(record), aim_of(aim), tolerance_set(tolerances), corrected)
    criteria = [criterion_facts(f) for f in found.result.findings]
    return {
        "prediction": found,
        "reach": OUT_OF_REACH,
        "summary": summary_of(found.result),
        **result_view(criteria, patch_facts(found.result)),
    }


def result_view(criteria: list[dict[str, Any]], r: dict[str, Any]) -> dict[str, Any]:
    """Criteria, map and worst patches of stored or predicted results."""
    aim, measured, differences = (np.array(r[k]) for k in ("aim", "measured", "differences"))
    order = np.argsort(-differences, kind="stable")[:WORST]
    rows = None if r["rows"] is None else np.array(r["rows"])
    columns = None if r["columns"] is None else np.array(r["columns"])
    worst_ids = frozenset(r["ids"][i] for i in order[:5])
    aims, seen = hex_colours(aim[order]), hex_colours(measured[order])
    spots = r.get("spots") or [""] * len(aim)
    return {
        "limited": [c for c in criteria if c["limit"] is not None],
        "reported": [c for c in criteria if c["limit"] is None],
        "map": patch_map(tuple(r["ids"]), aim, measured, rows, columns, worst_ids, differences),
        "worst": [
            {
                "id": r["ids"][i],
                "spot": spots[i],
                "device": [] if r["device"] is None else r["device"][i],
                "difference": differences[i],
                "aim": aim[i],
                "measured": measured[i],
                "delta": measured[i] - aim[i],
                "aim_colour": aims[k],
                "colour": seen[k],
            }
            for k, i in enumerate(order)
        ],
        "unit": UNITS[r["measure"]],
    }


def grey_views(check: Check) -> dict[str, Any] | None:
    """Tone, balance and weighted differences of the grey scales, for a check that judges them."""
    limits = {c["id"]: c["limit"] for c in check.criteria if c["unit"] in ("wdL*", "wdCh")}
    r = check.result
    if not limits or r["device"] is None:
        return None
    device, measured = np.array(r["device"]) / 100.0, np.array(r["measured"])
    aim = np.array(r["aim"]) if r.get("exact_greys") else g7.aim_lab(device, measured)
    cmy, k = g7.is_cmy_step(device), g7.is_k_step(device)
    if not cmy.any() or np.isnan(aim[cmy]).any():
        return None
    dl, dch = g7.weighted(device, aim, measured)
    largest, mean = max(limits.values()), min(limits.values())
    order, black = (
        np.flatnonzero(cmy)[np.argsort(device[cmy, 0])],
        np.flatnonzero(k)[np.argsort(device[k, 3])],
    )
    tones = device[order, 0]
    return {
        "tone": tone_view(tones, aim[order, 0], measured[order, 0], largest, "CMY"),
        "black": tone_view(device[black, 3], aim[black, 0], measured[black, 0], largest, "K"),
        "balance": balance_view(tones, aim[order], measured[order], largest),
        "weighted": weighted_view(tones, dl[order], dch[order], mean, largest),
        "exact": bool(r.get("exact_greys")),
        "rows": [
            {
                "tone": 100.0 * device[i, 0],
                "aim": aim[i],
                "measured": measured[i],
                "dl": dl[i],
                "dch": dch[i],
            }
            for i in order
        ],
    }
