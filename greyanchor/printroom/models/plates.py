"""Plates of jobs: separations for film and screen printing."""

from __future__ import annotations

from typing import Any

from django.db import models

from greyanchor.library.models import PrintMode
from greyanchor.printroom.models.printing import Job, Resumed, Run


class PlateSet(Resumed):
    """The plates of a job as they were asked for; its work is the making. What was made is never changed.

    `mode` is the film mode that they are made for: its resolution and the dots of its film. `choices` are
    those of `plate_choices`; `facts` what came out (`core.separation.plates.making.PlateSet`), with a file of
    the storage for each plate. `run` is the run that they were laid on.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="plate_sets")
    mode = models.ForeignKey(PrintMode, null=True, on_delete=models.PROTECT, related_name="plate_sets")
    edition = models.PositiveIntegerField(default=0)
    choices = models.JSONField(default=dict)
    job_choices = models.JSONField(default=dict)
    facts = models.JSONField(default=dict, blank=True)
    run = models.ForeignKey(Run, null=True, on_delete=models.SET_NULL, related_name="plate_sets")

    class Meta(Resumed.Meta):
        abstract = False

    def __str__(self) -> str:
        return f"plates of {self.job}"

    @property
    def plates(self) -> list[dict[str, Any]]:
        """Facts of each plate, in the order that they are printed in."""
        return list(self.facts.get("plates", []))

    @property
    def warnings(self) -> list[str]:
        """What beats, in words."""
        return list(self.facts.get("warnings", []))
