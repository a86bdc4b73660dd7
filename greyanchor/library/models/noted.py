"""Changes of what has no versions of its own."""

from __future__ import annotations

from django.conf import settings
from django.contrib.contenttypes.fields import GenericForeignKey
from django.contrib.contenttypes.models import ContentType
from django.db import models


class Noted(models.Model):
    """One change of something that is kept beside a record or has no versions: a file, notes on curves, what a
    class lends, a rule, a person's role. `before` is empty for what was added, `after` for what was taken away.
    """

    content_type = models.ForeignKey(ContentType, on_delete=models.CASCADE)
    object_id = models.PositiveBigIntegerField()
    subject = GenericForeignKey()
    what = models.CharField(max_length=120)
    before = models.TextField(blank=True)
    after = models.TextField(blank=True)
    at = models.DateTimeField(auto_now_add=True)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering = ["-at", "-pk"]
        indexes = [models.Index(fields=["content_type", "object_id", "at"])]

    def __str__(self) -> str:
        return f"{self.what}: {self.before or 'nothing'} to {self.after or 'nothing'}"
