"""The seal of a check: a hash over everything that a verdict is based on."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from greyanchor.core.canonical import canonical


def seal_of(check: Any) -> str:
    """SHA-256 over verdict, figures, aim, tolerance set and readings of a check, as they stand now."""
    items = [
        check.verdict,
        check.criteria,
        check.tolerances,
        check.tolerance_data,
        check.corrected,
        hashlib.sha256(check.readings.encode()).hexdigest(),
        check.aim_id,
        check.aim_name,
        check.spots,
        check.result.get("aim"),
        check.result.get("measured"),
    ]
    if check.own:
        items.append(check.own)
    return hashlib.sha256(json.dumps(canonical(items), sort_keys=True).encode()).hexdigest()
