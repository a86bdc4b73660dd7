"""Seals are over a form that every database gives back; checks that are as they were made get such a seal."""

import hashlib
import json

from django.db import migrations


def canonical(value):
    """As `core.canonical` was when this migration was written."""
    if isinstance(value, float) and value.is_integer():
        return int(value)
    if isinstance(value, dict):
        return {str(k): canonical(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [canonical(v) for v in value]
    return value


def parts_of(check):
    """As `checks.content_hash` sealed when this migration was written."""
    sealed = [
        check.verdict,
        check.criteria,
        check.tolerances,
        check.tolerance_data,
        check.corrected,
        hashlib.sha256(check.readings.encode()).hexdigest(),
        check.aim_id,
        check.aim_name,
        check.spots,
        check.result.get("aim"),
        check.result.get("measured"),
    ]
    return [*sealed, check.own] if check.own else sealed


def seal(items):
    return hashlib.sha256(json.dumps(items, sort_keys=True).encode()).hexdigest()


def seal_again(apps, schema_editor):
    Check = apps.get_model("checks", "Check")
    for check in Check.objects.order_by("pk").iterator(chunk_size=100):
        items = parts_of(check)
        made = seal(canonical(items))
        if check.seal == seal(items) and check.seal != made:
            Check.objects.filter(pk=check.pk).update(seal=made, earlier_seal=check.seal)


class Migration(migrations.Migration):
    dependencies = [("checks", "0008_earlier_seal")]
    operations = [migrations.RunPython(seal_again, migrations.RunPython.noop)]
