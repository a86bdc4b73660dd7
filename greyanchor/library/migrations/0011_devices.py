"""How devices are reached becomes a record of its own; what a simulated printer remembers moves into it."""

from django.db import migrations, models


def forwards(apps, schema_editor):
    """Until now every printer and instrument was simulated."""
    get = lambda name: apps.get_model("library", name)
    made = get("DeviceConnection").objects
    for printer in get("Printer").objects.all():
        made.create(site_id=printer.site_id, printer=printer, driver="standin", state=printer.standin)
    for site in get("Site").objects.all():
        for method in ("strip", "table", "inline"):
            made.create(site=site, method=method, driver="standin")


class Migration(migrations.Migration):
    dependencies = [("library", "0010_packs_out")]

    operations = [
        migrations.CreateModel(
            name="DeviceConnection",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                (
                    "method",
                    models.CharField(
                        blank=True,
                        choices=[
                            ("", "printer"),
                            ("strip", "by hand, row by row"),
                            ("table", "on a measuring table"),
                            ("inline", "inside the printer"),
                        ],
                        max_length=10,
                    ),
                ),
                ("driver", models.CharField(max_length=60)),
                ("options", models.JSONField(blank=True, default=dict)),
                ("state", models.JSONField(blank=True, default=dict)),
                (
                    "printer",
                    models.OneToOneField(
                        blank=True,
                        null=True,
                        on_delete=models.deletion.CASCADE,
                        related_name="connection",
                        to="library.printer",
                    ),
                ),
                (
                    "site",
                    models.ForeignKey(
                        on_delete=models.deletion.CASCADE, related_name="connections", to="library.site"
                    ),
                ),
            ],
            options={"ordering": ["site__name", "method", "pk"]},
        ),
        migrations.RunPython(forwards, migrations.RunPython.noop),
        migrations.RemoveField(model_name="printer", name="standin"),
    ]
