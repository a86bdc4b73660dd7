"""What pages ask of checks."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.checks.models import Check
from greyanchor.checks.services import criterion_facts, patch_facts, summary_of
from greyanchor.core.formats import icc
from greyanchor.core.verification.predict import OUT_OF_REACH, predict
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.patches import patch_map
from greyanchor.profiles.models import AimRecord, Profile
from greyanchor.profiles.queries import aim_of

WORST = 10


def check_view(check: Check) -> dict[str, Any]:
    """Criteria, patch map and worst patches of a check, ready for a page."""
    return {"check": check, **result_view(check.criteria, check.result)}


def prediction_view(record: Profile, aim: AimRecord, tolerances: str, corrected: bool) -> dict[str, Any]:
    """What a check of this profile would say: the same parts, and what is out of reach."""
    found = predict(icc.loads(bytes(record.data), record.title), aim_of(aim), SHIPPED[tolerances], corrected)
    criteria = [criterion_facts(f) for f in found.result.findings]
    return {
        "prediction": found,
        "reach": OUT_OF_REACH,
        "summary": summary_of(found.result),
        **result_view(criteria, patch_facts(found.result, found.strip)),
    }


def result_view(criteria: list[dict[str, Any]], r: dict[str, Any]) -> dict[str, Any]:
    """Criteria, map and worst patches of stored or predicted results."""
    aim, measured, differences = (np.array(r[k]) for k in ("aim", "measured", "differences"))
    order = np.argsort(-differences, kind="stable")[:WORST]
    rows = None if r["rows"] is None else np.array(r["rows"])
    columns = None if r["columns"] is None else np.array(r["columns"])
    worst_ids = frozenset(r["ids"][i] for i in order[:5])
    aims, seen = hex_colours(aim), hex_colours(measured)
    return {
        "limited": [c for c in criteria if c["limit"] is not None],
        "reported": [c for c in criteria if c["limit"] is None],
        "map": patch_map(tuple(r["ids"]), aim, measured, rows, columns, worst_ids, differences),
        "worst": [
            {
                "id": r["ids"][i],
                "device": r["device"][i],
                "difference": differences[i],
                "aim": aim[i],
                "measured": measured[i],
                "delta": measured[i] - aim[i],
                "aim_colour": aims[i],
                "colour": seen[i],
            }
            for i in order
        ],
        "unit": {"de00": "dE00", "de76": "dE*ab"}[r["measure"]],
    }
