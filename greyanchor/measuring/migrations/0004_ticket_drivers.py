"""Tickets of prints say which driver made them; until now all were simulated."""

from django.db import migrations


def forwards(apps, schema_editor):
    prints = apps.get_model("measuring", "SheetPrint").objects.only("pk", "ticket")
    for job in prints.iterator(200):
        if job.ticket and "driver" not in job.ticket:
            job.ticket["driver"] = "standin"
            job.save(update_fields=["ticket"])


class Migration(migrations.Migration):
    dependencies = [("measuring", "0003_delivered")]
    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
