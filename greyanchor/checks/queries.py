"""What pages ask of checks."""

from __future__ import annotations

from typing import Any

import numpy as np

from greyanchor.checks.models import Check
from greyanchor.drawing.colours import hex_colours
from greyanchor.drawing.patches import patch_map

WORST = 10


def check_view(check: Check) -> dict[str, Any]:
    """Criteria, patch map and worst patches of a check, ready for a page."""
    r = check.result
    aim, measured, differences = (np.array(r[k]) for k in ("aim", "measured", "differences"))
    order = np.argsort(-differences, kind="stable")[:WORST]
    rows = None if r["rows"] is None else np.array(r["rows"])
    columns = None if r["columns"] is None else np.array(r["columns"])
    worst_ids = frozenset(r["ids"][i] for i in order[:5])
    aims, seen = hex_colours(aim), hex_colours(measured)
    return {
        "check": check,
        "limited": [c for c in check.criteria if c["limit"] is not None],
        "reported": [c for c in check.criteria if c["limit"] is None],
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
