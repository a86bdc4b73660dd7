"""A shop of the second version is made, brought along by every migration since, and looked at.

Run by test_migrations.
"""

import django

django.setup()
from django.core.management import call_command
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

then = [
    ("checks", "0001_initial"),
    ("bench", "0004_stage_profile"),
    ("profiles", "0003_refining"),
    ("library", "0002_bench_in_full"),
    ("measuring", "0002_bench_in_full"),
    ("auth", "0012_alter_user_first_name_max_length"),
]
executor = MigrationExecutor(connection)
executor.migrate(then)
old = executor.loader.project_state(then).apps.get_model
user = old("auth", "User").objects.create(username="x")
printer = old("library", "Printer").objects.create(
    name="p", model="p", site=old("library", "Site").objects.create(name="s"), width_mm=100
)
media = old("library", "Media").objects.create(
    name="m",
    media_class=old("library", "MediaClass").objects.create(name="coated"),
    maker="x",
    weight=100,
    thickness=100,
    width_mm=1000,
    brightener="none",
    heat=38.0,
    vacuum=55.0,
)
ink = old("library", "InkSet").objects.create(name="i", channels=list("CMYK"))
mode = old("library", "PrintMode").objects.create(
    name="mode",
    printer=printer,
    ink_set=ink,
    media=media,
    environment_hash="h",
    environment={"heat": 41.0, "vacuum": 55.0},
    limits={"C": 80.0},
    total_ink=280.0,
    curves="channel,input,output",
    state="released",
)
printer.ink_sets.add(ink)
old("library", "HistoricalPrintMode").objects.create(
    id=mode.pk,
    name="mode",
    printer=printer,
    ink_set=ink,
    media=media,
    environment_hash="h",
    limits={"C": 70.0},
    version=1,
    history_date="2026-01-01T00:00Z",
    history_type="+",
    created_at="2026-01-01T00:00Z",
    changed_at="2026-01-01T00:00Z",
)
aim = old("profiles", "AimRecord").objects.create(name="a", source="s", data=b"x")
for k in range(3):
    old("checks", "Check").objects.create(
        mode=mode,
        aim=aim,
        tolerances="iso12647-7:2016",
        verdict="pass",
        summary="s",
        readings="r",
        readings_hash="h",
        criteria=[{"id": "mean", "value": 1.0 + k, "limit": 2.5}],
        result={"ids": [], "aim": [], "measured": []},
    )
for done in (1, 3):
    build = old("bench", "Build").objects.create(mode=mode, owner=user, environment={}, environment_hash="h")
    for i, kind in enumerate(
        ["ink-limits", "linearization", "total-ink", "profile-chart", "profile", "check", "release"]
    ):
        state = "accepted" if i < done else "open" if i == done else "waiting"
        old("bench", "Stage").objects.create(build=build, position=i, kind=kind, state=state)
call_command("migrate", verbosity=0)
from greyanchor.builds.models import Build
from greyanchor.checks.models import Check, CheckFigure

for check in Check.objects.all():
    assert check.is_unchanged and check.aim_name == "a, edition 1" and check.printer.name == "p"
    assert check.tolerance_data["edition"] == "2016"
assert sorted(CheckFigure.objects.values_list("value", flat=True)) == [1.0, 2.0, 3.0]
for build, state in zip(Build.objects.order_by("pk"), ("waiting", "accepted")):
    stages = list(build.stages.all())
    assert [s.position for s in stages] == list(range(8)) and stages[2].kind == "grey-balance"
    assert stages[2].state == state and (stages[2].source == "skipped") == (state == "accepted"), state
from django.contrib.auth.models import User

from greyanchor.accounts.roles import Role, role_of
from greyanchor.library.models import PrintMode

mode = PrintMode.objects.get()
assert mode.limit_set.limits == {"C": 80.0} and mode.curves == "channel,input,output" and mode.calibrated_at
assert (
    mode.preset.name == "m on p"
    and mode.preset.handling == {"heat_on": 38.0, "vacuum": 55.0}
    and mode.handling == {"heat_on": 41.0}
)
edition = mode.editions.get()
assert (
    edition.number == 1 and edition.content["limits"] == {"C": 80.0} and edition.curve_set == mode.curve_set
)
from greyanchor.library.models import InkSet, Printer
from greyanchor.library.records import editing
from greyanchor.library.records.record_types import KINDS

printer, inks = Printer.objects.get(), InkSet.objects.get()
editing.edit(
    KINDS["printers"],
    printer.pk,
    1,
    {"notes": "x", "serial": "1", "driven_as": "channels", "resolutions": [600], "passes": [8]},
    None,
    "x",
)
entries = editing.history(printer)
assert [e.why for e in entries] == ["x", "as it stood when histories began"] and "Ink sets" not in [
    w[0] for w in entries[0].what
]
assert KINDS["printers"].flat(Printer.history.earliest())["ink_sets"] == [inks.pk]
editing.go_back(KINDS["modes"], mode.pk, mode.history.last().history_id, 1, None, "x")
mode.refresh_from_db()
assert (
    mode.curves == "channel,input,output"
    and mode.limit_set.limits == {"C": 70.0}
    and mode.preset.name == "m on p"
)
assert role_of(User.objects.get()) == Role.LEAD and mode.media.media_class.family == "coated-paper"
print("brought along")
