"""Errors that a person can act on."""

from __future__ import annotations


class BadInput(ValueError):
    """Input that cannot be used, said with the place and the reason.

    Parameters
    ----------
    reason
        What is wrong and, where it helps, what to do.
    source
        The file or field the input came from.
    line
        One-based line number in `source`, when there is one.
    """

    def __init__(self, reason: str, source: str | None = None, line: int | None = None) -> None:
        self.reason = reason
        self.source = source
        self.line = line
        super().__init__(str(self))

    def __str__(self) -> str:
        place = self.source or ""
        if self.line is not None:
            place = f"{place}, line {self.line}" if place else f"line {self.line}"
        return f"{place}: {self.reason}" if place else self.reason

    @property
    def sentence(self) -> str:
        """The error as a sentence for a page; the name of a file keeps its letters."""
        text = str(self)
        return f"{text}." if self.source else f"{text[:1].upper()}{text[1:]}."

    def at(self, source: str) -> BadInput:
        """The same error, said with the name of the file it came from."""
        return BadInput(self.reason, source, self.line)


class NotReadable(BadInput):
    """An instrument or a print refuses to be read; the reason says what to do with the hands."""
