"""Marks of faults that were judged by eye, as the core takes them."""

from __future__ import annotations

from greyanchor.builds.stages.base import Marks
from greyanchor.core.calibration.byeye import EyeLimit, eye_limit


def limit_seen(marks: Marks, subject: str) -> EyeLimit | None:
    """The limit that the eye set for a channel or an overprint; None where no fault was seen."""
    faults = marks.get(subject, {})
    return eye_limit({fault: None if v is None else v / 100.0 for fault, v in faults.items()})
