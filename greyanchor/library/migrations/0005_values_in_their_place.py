from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [
        ("library", "0004_bring_along"),
    ]

    operations = [
        migrations.RemoveField(
            model_name="historicalmedia",
            name="heat",
        ),
        migrations.RemoveField(
            model_name="historicalmedia",
            name="vacuum",
        ),
        migrations.RemoveField(
            model_name="media",
            name="heat",
        ),
        migrations.RemoveField(
            model_name="media",
            name="vacuum",
        ),
        migrations.RemoveField(
            model_name="printmode",
            name="curves",
        ),
    ]
