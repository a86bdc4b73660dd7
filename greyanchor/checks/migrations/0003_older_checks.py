"""Checks from before figures, snapshots and seals were kept get them."""

from django.db import migrations

from greyanchor.checks.sealing import seal_of
from greyanchor.core.verification.shipped import SHIPPED


def fill(apps, schema_editor):
    Check, Figure = apps.get_model("checks", "Check"), apps.get_model("checks", "CheckFigure")
    for pk in list(Check.objects.filter(seal="").values_list("pk", flat=True)):
        check = Check.objects.select_related("mode", "aim").get(pk=pk)
        shipped = SHIPPED.get(check.tolerances)
        check.tolerance_data = shipped.as_dict() if shipped else {}
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
