from django.db import migrations


def into_a_book(apps, schema_editor):
    record = apps.get_model("profiles", "SpotRecord")
    if record.objects.exists():
        book = apps.get_model("profiles", "SpotLibrary").objects.create(name="House colours")
        record.objects.update(library=book)


class Migration(migrations.Migration):
    dependencies = [("profiles", "0009_spot_libraries")]

    operations = [migrations.RunPython(into_a_book, migrations.RunPython.noop)]
