"""Names without what cannot be seen: controls, and marks that turn the direction of writing."""

from __future__ import annotations

import unicodedata

#: bidirectional controls of Unicode (UAX #9), by which a name can be made to look like another one
_TURNING = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def hidden_in(text: str) -> str:
    """The first character of a text that a name must not have, as ``U+202E``; empty where there is none."""
    found = next((c for c in text if _is_hidden(c)), "")
    return f"U+{ord(found):04X}" if found else ""


def file_name(name: str, most: int = 200) -> str:
    """The name of a file that somebody sent, as it is kept and shown: without folders and hidden characters,
    shortened in its middle so that its ending stays.
    """
    shown = "".join("\ufffd" if _is_hidden(c) else c for c in name.replace("\\", "/").rpartition("/")[2])
    shown = unicodedata.normalize("NFC", shown).strip() or "unnamed"
    if len(shown) > most:
        shown = f"{shown[: most - 21]}…{shown[-20:]}"
    return shown


def _is_hidden(character: str) -> bool:
    return character in _TURNING or unicodedata.category(character) in ("Cc", "Cs")
