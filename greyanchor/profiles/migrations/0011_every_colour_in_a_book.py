import django.db.models.deletion
from django.db import migrations, models

import greyanchor.profiles.models


class Migration(migrations.Migration):
    dependencies = [("profiles", "0010_house_colours")]

    operations = [
        migrations.AlterField(
            model_name="historicalspotrecord",
            name="library",
            field=models.ForeignKey(
                blank=True,
                db_constraint=False,
                default=greyanchor.profiles.models.house_library,
                null=True,
                on_delete=django.db.models.deletion.DO_NOTHING,
                related_name="+",
                to="profiles.spotlibrary",
            ),
        ),
        migrations.AlterField(
            model_name="spotrecord",
            name="library",
            field=models.ForeignKey(
                default=greyanchor.profiles.models.house_library,
                on_delete=django.db.models.deletion.CASCADE,
                related_name="colours",
                to="profiles.spotlibrary",
            ),
        ),
        migrations.AddConstraint(
            model_name="spotrecord",
            constraint=models.UniqueConstraint(fields=("library", "name"), name="spot_once_in_a_book"),
        ),
    ]
