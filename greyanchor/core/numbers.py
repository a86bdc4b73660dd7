"""Numbers as people write them: with a decimal point or a decimal comma."""

from __future__ import annotations

import math
import re

from greyanchor.core.errors import BadInput

_NUMBER = re.compile(r"[-+]?(\d+([.,]\d*)?|[.,]\d+)")
#: a comma before exactly three digits may mean thousands or decimals, unless a zero stands before it
_UNCLEAR = re.compile(r"[-+]?[1-9]\d{0,2},\d{3}")
_GROUPED = re.compile(r"[-+]?\d{1,3}([ ,.'\u2019\u00a0\u202f]\d{3})+([.,]\d+)?")


def parse_number(text: str) -> float:
    """A typed number; ``45.5`` and ``45,5`` are the same, and thousands are never guessed.

    Parameters
    ----------
    text
        What was typed; blanks around it and a true minus sign are taken.

    Returns
    -------
    float
        A finite number.

    Raises
    ------
    BadInput
        Where it is no number, or may be read in two ways (``1,000``).
    """
    plain = text.strip().replace("\u2212", "-")
    if _UNCLEAR.fullmatch(plain) or (_GROUPED.fullmatch(plain) and not _NUMBER.fullmatch(plain)):
        raise BadInput(f"{text.strip()!r} may be read in two ways: write thousands without a mark, as 1250.5")
    if not _NUMBER.fullmatch(plain):
        raise BadInput(f"{text.strip()!r} is not a number: write it as 45.5 or 45,5")
    value = float(plain.replace(",", "."))
    if not math.isfinite(value):
        raise BadInput(f"{text.strip()!r} is too large")
    return value
