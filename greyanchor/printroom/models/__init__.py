"""The records of the print room."""

from greyanchor.printroom.models.plates import PlateSet
from greyanchor.printroom.models.printing import (
    Arrived,
    Artwork,
    HotFolder,
    Job,
    MediaRoll,
    Print,
    PrintFile,
    Resumed,
    Run,
    RunJob,
    Then,
    week_of,
)

__all__ = [
    "Arrived",
    "Artwork",
    "HotFolder",
    "Job",
    "MediaRoll",
    "PlateSet",
    "Print",
    "PrintFile",
    "Resumed",
    "Run",
    "RunJob",
    "Then",
    "week_of",
]
