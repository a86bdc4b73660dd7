"""How the printers and instruments of each site are reached."""

from __future__ import annotations

from django.db import models

from greyanchor.accounts.models import Site
from greyanchor.library.models.equipment import Printer


class DeviceConnection(models.Model):
    """A device of a site and the driver that reaches it: a printer, or an instrument that reads by `method`.

    `options` are what a person entered, `state` is what the driver remembers, `kept` what the
    application does: of a light meter, when it was calibrated on the dark. A printer without a connection
    prints from files.
    """

    class Method(models.TextChoices):
        NONE = "", "printer"
        STRIP = "strip", "by hand, row by row"
        TABLE = "table", "on a measuring table"
        INLINE = "inline", "inside the printer"
        LIGHT = "light", "viewing lights"

    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="connections")
    printer = models.OneToOneField(
        Printer, null=True, blank=True, on_delete=models.CASCADE, related_name="connection"
    )
    method = models.CharField(max_length=10, choices=Method.choices, blank=True)
    driver = models.CharField(max_length=60)
    options = models.JSONField(default=dict, blank=True)
    state = models.JSONField(default=dict, blank=True)
    kept = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["site__name", "method", "pk"]

    def __str__(self) -> str:
        return f"{self.printer or self.get_method_display()} at {self.site}"
