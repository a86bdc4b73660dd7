"""Two models get names that say what they are; their tables stay."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0011_devices")]

    operations = [
        migrations.AlterModelTable("noted", "library_noted"),
        migrations.RenameModel("Noted", "AuditEntry"),
        migrations.AlterModelTable("readied", "library_readied"),
        migrations.RenameModel("Readied", "ReadinessRun"),
        migrations.AlterField(
            model_name="readinessrun",
            name="media",
            field=models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.CASCADE,
                related_name="readiness_runs",
                to="library.media",
            ),
        ),
        migrations.AlterField(
            model_name="readinessrun",
            name="printer",
            field=models.ForeignKey(
                on_delete=django.db.models.deletion.CASCADE,
                related_name="readiness_runs",
                to="library.printer",
            ),
        ),
    ]
