"""Print files name their mode and its edition themselves; prints the week they ended in."""

from datetime import timedelta

from django.db import migrations
from django.db.models import OuterRef, Subquery
from django.utils import timezone


def fill(apps, schema_editor):
    files, jobs, prints = (apps.get_model("printroom", name) for name in ("PrintFile", "Job", "Print"))
    editions = apps.get_model("library", "Edition")
    mode = Subquery(jobs.objects.filter(pk=OuterRef("job")).values("mode")[:1])
    files.objects.filter(mode=None).update(mode=mode)
    known = {(e["mode"], e["number"]): e["pk"] for e in editions.objects.values("pk", "mode", "number")}
    for record in files.objects.only("mode", "ticket").iterator():
        found = known.get((record.mode_id, record.ticket.get("edition")))
        if found:
            files.objects.filter(pk=record.pk).update(edition=found)
    of_file = Subquery(files.objects.filter(pk=OuterRef("print_file")).values("mode")[:1])
    prints.objects.filter(mode=None).update(mode=of_file)
    for record in prints.objects.filter(ended_at__isnull=False).only("ended_at").iterator():
        day = timezone.localtime(record.ended_at).date()
        prints.objects.filter(pk=record.pk).update(week=day - timedelta(days=day.weekday()))


class Migration(migrations.Migration):
    dependencies = [("printroom", "0004_runs"), ("library", "0015_prices")]
    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
