"""Why unattended work stops and waits for a person."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

#: rules by which it stops, and what a person does in the morning
RULES = {
    "readiness": "do what is due under Readiness, then let it go on",
    "media": "load the media, then it goes on by itself",
    "media-out": "load a longer roll, then let it go on",
    "printer": "look at the machine, then let it go on",
    "reader": "clean the reader and its white tile, then let it go on",
    "suspect": "look at the sheet and at its readings; read it again, or print it again, then let it go on",
    "limit": "look at the ramps and decide the limits yourself, then let it go on",
    "eye": "look at the print and accept the stage, then let it go on",
    "doubt": "look at the stage and decide it yourself, then let it go on",
    "check": "look at what the check says of the cause; build again from where it begins",
    "lost": "find what the machine has lost (a nozzle, a head, an ink) before curves hide it",
    "drift": "look at the restore and decide it yourself",
    "person": "decide it, then let it go on",
}


@dataclass(frozen=True)
class Stop(Exception):
    """Unattended work stops by a rule of `RULES`; `words` say why, with the figure."""

    rule: str
    words: str

    @property
    def todo(self) -> str:
        """What a person does."""
        return RULES[self.rule]


@dataclass(frozen=True)
class Wait(Exception):
    """Unattended work goes on at `until`."""

    until: datetime
    words: str
