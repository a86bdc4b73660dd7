"""The shop of version 0.5.0 in `data/` is brought along, looked at page by page, and worked on.

Run by test_migrations in a process of its own, with its database in place.
"""

import re
from collections import deque

import django

django.setup()

from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client

from greyanchor.accounts.models import AuditEntry, ProgramKey, Site
from greyanchor.builds import enqueue
from greyanchor.builds.evidence.charts import lay_out_confirmation, lay_out_stage
from greyanchor.builds.lifecycle import decisions
from greyanchor.builds.models import Build, Stage, Task
from greyanchor.demo.prints import careful_reading
from greyanchor.library.machines.connections import printer_port
from greyanchor.library.models import Attachment, DeviceConnection, Pin, Printer, PrintMode, ShopRules
from greyanchor.measuring.models import SheetPrint
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.measuring.suspicions import suspicions, use_suspect_readings
from greyanchor.profiles.models import AimRecord, Profile

KEY = "ga_dxTRA8PIwAv4ud5wv7Z2HOz26eAo5J71ViwmNssvbmg"
PROFILE = {
    "title": "Half way",
    "total_ink": 280,
    "black_start": 25,
    "black_strength": 50,
    "max_black": 100,
    "width": 100,
    "limits": "",
    "light": "D50",
    "source": "srgb",
    "version": 4,
    "quality": "draft",
}


def stage_of(build: Build, kind: str) -> Stage:
    return build.stages.select_related("sheet_print__chart", "confirm_print", "build__mode").get(kind=kind)


def accept(build: Build, kind: str, values: dict[str, object], reason: str = "") -> None:
    build.refresh_from_db()
    decisions.accept_stage(stage_of(build, kind).pk, build.version, values, reason, ines)


def read(job: SheetPrint | None, passes: int) -> None:
    assert job is not None
    job = print_sheet(job.pk, ines)
    SheetPrint.objects.filter(pk=job.pk).update(dry_minutes=0.0)
    for number in range(1, passes + 1):
        keep_whole_pass(SheetPrint.objects.get(pk=job.pk), careful_reading(job, number), "reader", ines)


def every_page(client: Client) -> int:
    """Follow every link from the start page; gives how many pages there are."""
    seen, waiting = {"/"}, deque(["/"])
    while waiting:
        address = waiting.popleft()
        answer = client.get(address)
        assert answer.status_code in (200, 302), f"{address}: {answer.status_code}"
        if not answer.headers.get("Content-Type", "").startswith("text/html"):
            continue
        for link in re.findall(r'href="(/[^"#]*)', answer.content.decode()):
            link = link.replace("&amp;", "&")
            plain = link.split("?")[0]
            # one page of each address is enough: choices in it are tested elsewhere
            if plain in seen or plain.startswith(("/static/", "/sign-out")):
                continue
            seen.add(plain)
            waiting.append(link)
    return len(seen)


call_command("migrate", verbosity=0)
ines = User.objects.get(username="ines")

# --- what was there is there -----------------------------------------------------------------
assert sorted(PrintMode.objects.values_list("name", "state")) == [
    ("Grey half", "building"),
    ("Half way", "building"),
    ("Quay proof", "released"),
]
assert Pin.objects.count() == 1 and ShopRules.objects.get().check_days == 14
assert Attachment.objects.get().name == "note.txt" and AuditEntry.objects.count() == 3
assert Site.objects.exists() and ProgramKey.objects.get().name == "job desk"

# --- devices ---------------------------------------------------------------------------------
petrel = Printer.objects.get(name="Petrel 44")
reached = DeviceConnection.objects.get(printer=petrel)
assert reached.driver == "standin" and reached.site == petrel.site
controls = {c.key: c.value for c in printer_port(petrel).controls()}  # type: ignore[union-attr]
assert round(controls["C"], 6) == 110.0 and controls["paper_b"] == 1.5, controls
assert DeviceConnection.objects.filter(printer=None).count() == 3 * Site.objects.count()
assert {j.ticket.get("driver") for j in SheetPrint.objects.exclude(device="")} == {"standin"}

# --- every page opens, and programs still have their key -------------------------------------
client = Client(HTTP_HOST="localhost")
client.force_login(ines)
pages = every_page(client)
assert pages > 150, pages
program = Client(HTTP_HOST="localhost", HTTP_AUTHORIZATION=f"Bearer {KEY}")
listed = program.get("/api/v1/modes").json()
assert "Quay proof" in {m["name"] for m in listed["modes"]}, listed

# --- and the work goes on --------------------------------------------------------------------
half = Build.objects.get(mode__name="Half way")
task = enqueue.start_profile(stage_of(half, "profile"), PROFILE, ines)
if task.state != "done":
    from greyanchor.background import queue

    queue.run(Task.objects.get(pk=task.pk))
assert Profile.objects.filter(title="Half way").count() == 1, Task.objects.get(pk=task.pk).message
accept(half, "profile", {})
options = {
    "aim": AimRecord.objects.get(name="Northlight Coated").pk,
    "tolerances": "iso12647-7:2016",
    "corrected": True,
}
lay_out_stage(stage_of(half, "check"), options)
read(stage_of(half, "check").sheet_print, 1)
check = stage_of(half, "check").made_check
assert check is not None and check.verdict == "fail", "the printer of this shop has drifted"
accept(half, "check", {}, "the printer has drifted since the chart was read")
accept(half, "release", {"note": "brought along"}, "the printer has drifted since the chart was read")
assert PrintMode.objects.get(name="Half way").state == "released"

grey = Build.objects.get(mode__name="Grey half")
read(stage_of(grey, "grey-balance").sheet_print, 2)
# the paper of this shop changed between its ramps and the grey chart, which is not passed over in silence
doubts = suspicions(stage_of(grey, "grey-balance").sheet_print)
assert any("bare media differs" in d.text for d in doubts), doubts
use_suspect_readings(stage_of(grey, "grey-balance").sheet_print_id, "a new roll of the same paper", ines)
lay_out_confirmation(stage_of(grey, "grey-balance"))
read(stage_of(grey, "grey-balance").confirm_print, 1)
accept(grey, "grey-balance", {}, "made to see whether it goes on")
assert stage_of(grey, "total-ink").state == "open"
print("brought along", pages)
