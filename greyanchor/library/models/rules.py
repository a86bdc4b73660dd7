"""What the shop asks of a release."""

from __future__ import annotations

from django.core.validators import MaxValueValidator, MinValueValidator
from django.db import models


class ShopRules(models.Model):
    """What a release asks for; there is one record."""

    check_days = models.PositiveIntegerField(
        "age of the check, days, at most",
        default=30,
        validators=[MinValueValidator(1), MaxValueValidator(3650)],
        help_text="a release asks for a passing check no older than this",
    )
    profile_error = models.FloatField(
        "error of the profile, mean dE00, at most",
        default=1.5,
        validators=[MinValueValidator(0.1), MaxValueValidator(10)],
        help_text="on patches the profile was not made from",
    )
    double_reading = models.BooleanField(
        "charts are read twice",
        default=True,
        help_text="ramps and profile chart, in two passes that agree",
    )
    trial_print = models.BooleanField(
        "a trial form was printed and looked at",
        default=False,
        help_text="our own form at full width, through the mode as it is, found fit by somebody",
    )
    version = models.PositiveIntegerField(default=1, editable=False)

    class Meta:
        verbose_name_plural = "shop rules"

    def __str__(self) -> str:
        return f"a check of {self.check_days} days, profiles within {self.profile_error:g} dE00"

    @classmethod
    def current(cls) -> ShopRules:
        """The rules in force."""
        return cls.objects.get_or_create(pk=1)[0]
