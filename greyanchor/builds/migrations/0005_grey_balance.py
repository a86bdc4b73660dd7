"""Builds from before grey balance was a stage get it, passed over."""

from django.db import migrations


def add(apps, schema_editor):
    Build, Stage = apps.get_model("bench", "Build"), apps.get_model("bench", "Stage")
    for build in Build.objects.all():
        stages = list(Stage.objects.filter(build=build).order_by("-position"))
        if not stages or any(s.kind == "grey-balance" for s in stages):
            continue
        linear = next(s for s in stages if s.kind == "linearization")
        for stage in stages:
            if stage.position > linear.position:
                Stage.objects.filter(pk=stage.pk).update(position=stage.position + 1)
        done = linear.state == "accepted"
        Stage.objects.create(
            build=build,
            kind="grey-balance",
            position=linear.position + 1,
            state="accepted" if done else "waiting",
            source="skipped" if done else "",
            source_text="this build is from before grey balance was a stage" if done else "",
            decision={"note": "not asked for"} if done else None,
            decided_by_id=linear.decided_by_id if done else None,
            decided_at=linear.decided_at if done else None,
        )


class Migration(migrations.Migration):
    dependencies = [("bench", "0004_stage_profile")]
    operations = [migrations.RunPython(add, migrations.RunPython.noop)]
