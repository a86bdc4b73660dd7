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
        """The rules in force; those of a new shop where nobody set any."""
        return cls.objects.filter(pk=1).first() or cls(pk=1)


def _days(title: str, default: int, most: int = 3650) -> models.PositiveIntegerField:
    return models.PositiveIntegerField(title, default=default, validators=[MaxValueValidator(most)])


class StorageRules(models.Model):
    """For how many days things are kept that are not needed any more; 0 keeps them. There is one record."""

    #: the rules by name, as the page of storage shows them
    DAYS = (
        "uploads_days", "refused_days", "packs_days", "artwork_days", "pictures_days", "print_files_days",
        "copies_days", "sign_ins_days",
    )  # fmt: skip
    QUOTAS = ("uploads_mb", "artwork_gb")

    uploads_days = _days("days of files that were sent and not used", 1)
    refused_days = _days("days of refused files", 60)
    packs_days = _days("days of packs that wait", 30)
    artwork_days = _days("days of artwork without a job", 0)
    pictures_days = _days("days of pictures of artwork", 60)
    print_files_days = _days("days of print files", 180)
    copies_days = _days("days of copies from before a restore", 90)
    sign_ins_days = _days("days of sign-ins", 400)
    uploads_mb = models.PositiveIntegerField(
        "MB that a person may have sent and not used", default=200, validators=[MaxValueValidator(10**6)]
    )
    artwork_gb = models.PositiveIntegerField(
        "GB of artwork in all", default=0, validators=[MaxValueValidator(10**6)], help_text="0: no limit"
    )
    version = models.PositiveIntegerField(default=1, editable=False)
    applied_at = models.DateTimeField(null=True, editable=False)

    class Meta:
        verbose_name_plural = "storage rules"

    def __str__(self) -> str:
        return ", ".join(f"{name.removesuffix('_days')} {getattr(self, name)}" for name in self.DAYS)

    @classmethod
    def current(cls) -> StorageRules:
        """The rules in force; those of a new shop where nobody set any."""
        return cls.objects.filter(pk=1).first() or cls(pk=1)
