"""What print files say of the mode, edition and settings that they were made for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.library.models import Edition, PrintMode
from greyanchor.library.records.effective_settings import in_force


def ticket_of(mode: PrintMode, changed: Mapping[str, float] | None = None) -> dict[str, Any]:
    """What a print file says of what it was made for; `changed` are handling settings for it alone."""
    return {
        "mode": mode.name,
        "edition": edition_of(mode),
        "printer": mode.printer.model,
        "ink_set": mode.ink_set.name,
        "environment": mode.environment_hash,
        "settings": {
            "environment": mode.environment,
            "handling": {**{key: held.value for key, held in in_force(mode).items()}, **(changed or {})},
        },
    }


def newest_edition(mode: PrintMode) -> Edition | None:
    """The newest edition of a mode."""
    return mode.editions.order_by("-number").only("number").first()


def edition_of(mode: PrintMode) -> int:
    """The number of its newest edition; 0 where it has none."""
    newest = newest_edition(mode)
    return newest.number if newest else 0


def check_edition(mode: PrintMode, ticket: Mapping[str, Any]) -> None:
    """Raises `BadInput` where a mode is no longer what something was made for."""
    if edition_of(mode) != ticket["edition"] or mode.environment_hash != ticket["environment"]:
        raise BadInput(f"{mode.name} has another edition by now: prepare the job again")
