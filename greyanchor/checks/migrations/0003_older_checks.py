"""Checks from before figures, snapshots and seals were kept get them."""

import hashlib
import json
from pathlib import Path

from django.db import migrations

#: the sets that shipped when this migration was written
SHIPPED = json.loads(Path(__file__).with_name("shipped_sets_0003.json").read_text())


def seal_of(check):
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
    return hashlib.sha256(json.dumps(sealed, sort_keys=True).encode()).hexdigest()


def fill(apps, schema_editor):
    Check, Figure = apps.get_model("checks", "Check"), apps.get_model("checks", "CheckFigure")
    for pk in list(Check.objects.filter(seal="").values_list("pk", flat=True)):
        check = Check.objects.select_related("mode", "aim").get(pk=pk)
        check.tolerance_data = SHIPPED.get(check.tolerances, {})
        check.aim_name = f"{check.aim.name}, edition {check.aim.edition}" if check.aim else ""
        check.printer_id = check.mode.printer_id if check.mode else None
        check.seal = seal_of(check)
        check.save()
        Figure.objects.bulk_create(
            Figure(check_made=check, criterion=c["id"], value=c["value"], limit=c["limit"])
            for c in check.criteria
            if c.get("value") is not None
        )


class Migration(migrations.Migration):
    dependencies = [("checks", "0002_proof")]
    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
