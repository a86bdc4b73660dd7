"""What a password must not be beside short and common: a person's own name."""

from __future__ import annotations

from typing import Any

from django.core.exceptions import ValidationError

#: letters that must be left of a password once the names are taken out
_LEFT = 6


class NotTheName:
    """Refuses a password that is little more than the names of its person."""

    def validate(self, password: str, user: Any = None) -> None:
        """Raise `ValidationError` for such a one."""
        left = _bare(password)
        names = [getattr(user, n, "") or "" for n in ("username", "first_name", "last_name")]
        for name in sorted({_bare(n) for n in names if len(_bare(n)) > 2}, key=len, reverse=True):
            left = left.replace(name, "")
        if user is not None and left != _bare(password) and len(left) < _LEFT:
            raise ValidationError("This password is too similar to the name.", code="like_the_name")

    def get_help_text(self) -> str:
        """In one sentence."""
        return "It is not your name."


def _bare(text: str) -> str:
    return "".join(c for c in text.casefold() if c.isalnum())
