"""The shared library grown large: finding, many people at once, and a large pack."""

from __future__ import annotations

import http.client
import os
import random
import re
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.report import report

MODES, ENTRIES, PACK = 20_000, 200_000, 500
BROWSING, SAVING, SECONDS = 50, 5, 60
_CLASSES = (
    "coated paper",
    "uncoated paper",
    "film",
    "backlit film",
    "banner",
    "mesh",
    "textile",
    "canvas",
    "synthetic paper",
    "photo paper",
)
_WORDS = (
    "harbour",
    "lantern",
    "pilot",
    "tide",
    "deck",
    "quay",
    "shoal",
    "beacon",
    "sound",
    "reef",
    "anchor",
    "chart",
    "buoy",
    "mooring",
    "estuary",
)
_KINDS = ("satin", "matt", "gloss", "cotton", "weave", "clear", "heavy", "light")


def everything() -> None:
    """Grow a library in a home of its own and hold it to its figures."""
    with tempfile.TemporaryDirectory() as home:
        os.environ.update(GREYANCHOR_HOME=home, DJANGO_SETTINGS_MODULE="greyanchor.config.settings")
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        print(f"\nA library of {MODES:,} print modes and {ENTRIES:,} entries of history")
        _grow()
        _find()
        _crowd(Path(home))
        _pack()


def _grow() -> None:
    from django.contrib.auth.models import User
    from django.utils import timezone

    from greyanchor.accounts.roles import Role, set_role
    from greyanchor.core.calibration.curves import CurveSet
    from greyanchor.core.printing.environment import PrintEnvironment
    from greyanchor.demo import seed
    from greyanchor.library.models import KeptText, LimitSet, Media, MediaClass, MediaPreset, PrintMode

    chance, now = random.Random(11), timezone.now()
    seed.people_and_machines()
    for i in range(SAVING):
        set_role(User.objects.create_user(f"saver{i}", password="a long password"), Role.LEAD)
    from greyanchor.library.models import Printer

    people = list(User.objects.all())
    printers = [
        p
        for p in Printer.objects.prefetch_related("ink_sets")
        if any(i.can_be_built for i in p.ink_sets.all())
    ]
    for i in range(18):
        old = printers[i % 2]
        inks = list(old.ink_sets.all())
        made = Printer.objects.get(pk=old.pk)
        made.pk, made.name = None, f"{old.model} no. {i + 2}"
        made.save()
        made.ink_sets.set(inks)
        printers.append(made)
    classes = [MediaClass.objects.get_or_create(name=c)[0] for c in _CLASSES]
    media = [
        Media(
            name=f"{chance.choice(_WORDS).title()} {chance.choice(_KINDS)} {100 + i}",
            media_class=chance.choice(classes),
            maker=f"Maker {chance.randrange(25)}",
            weight=chance.randrange(60, 500),
            thickness=200,
            width_mm=1000,
            brightener="faint",
        )
        for i in range(400)
    ]
    Media.objects.bulk_create(media)
    media = list(Media.objects.all())
    for m in media[:60]:
        MediaPreset.objects.get_or_create(
            name=f"{m.name} preset",
            media=m,
            printer_model=printers[0].model,
            defaults={"handling": {"vacuum": 50.0}},
        )
    curves, limits = [], []
    for _ in range(200):
        held = {c: round(0.7 + 0.3 * chance.random(), 3) for c in "CMYK"}
        curves.append(KeptText.of(CurveSet.straight(held).to_csv(), KeptText.Kind.CURVES))
        limits.append(LimitSet.of({c: 100 * v for c, v in held.items()}, 280.0))
    rows = []
    for i in range(MODES):
        printer, on = chance.choice(printers), chance.choice(media)
        ink = next(k for k in printer.ink_sets.all() if k.can_be_built)
        environment = PrintEnvironment(
            printer.model,
            ink.name,
            on.name,
            chance.choice([600, 1200]),
            chance.choice([4, 6, 8, 12]),
            chance.choice(["one way", "both ways"]),
        )
        k = i % 200
        rows.append(
            PrintMode(
                name=f"{on.name}, {chance.choice(_WORDS)} {chance.choice(_WORDS)} {i}",
                printer=printer,
                ink_set=ink,
                media=on,
                environment=environment.as_dict(),
                environment_hash=environment.content_hash(),
                state=chance.choices(["released", "building", "ready", "retired"], [8, 2, 1, 3])[0],
                limits=limits[k].limits,
                total_ink=280.0,
                limit_set=limits[k],
                curve_set=curves[k],
                calibrated_at=now - timedelta(days=chance.randrange(400)),
                last_verdict=chance.choice(["pass", "pass", "fail", ""]),
                made_by=chance.choice(people),
                note=" ".join(chance.choices(_WORDS, k=8)),
            )
        )
    PrintMode.objects.bulk_create(rows, batch_size=1000)
    _history(now)


def _history(now: Any) -> None:
    from greyanchor.library.models import PrintMode

    history = PrintMode.history.model
    names = [f.attname for f in PrintMode._meta.fields]
    modes = list(PrintMode.objects.all())
    batch = []
    for n in range(ENTRIES // MODES):
        for mode in modes:
            values = {k: getattr(mode, k) for k in names}
            batch.append(
                history(
                    **values,
                    history_date=now - timedelta(days=10 * (ENTRIES // MODES - n)),
                    history_type="~",
                    history_change_reason="edited",
                )
            )
        history.objects.bulk_create(batch, batch_size=2000)
        batch = []


def _find() -> None:
    from django.contrib.auth.models import User
    from django.test import Client

    from greyanchor.library.models import Media, MediaClass, Printer
    from greyanchor.library.modes.search import warm

    began = time.perf_counter()
    warm()
    report("reading the library into memory, once a process", time.perf_counter() - began, 15.0, "s")
    client = Client(headers={"host": "127.0.0.1"})
    client.force_login(User.objects.get(username="ines"))
    chance = random.Random(3)
    pools = {
        "printer": list(Printer.objects.values_list("pk", flat=True)),
        "media_class": list(MediaClass.objects.values_list("pk", flat=True)),
        "state": ["released", "building", "retired"],
        "passes": [4, 6, 8, 12],
        "verdict": ["pass", "fail"],
        "age": [0, 1, 2, 3],
        "speed": [0, 1, 2, 3],
        "media": list(Media.objects.values_list("pk", flat=True))[:80],
    }

    def timed(query: str) -> float:
        answer = client.get(f"/modes/?{query}", headers={"HX-Request": "true", "HX-Target": "modes"})
        assert answer.status_code == 200, query
        return float(answer.headers["Server-Timing"].split("dur=")[1])

    def narrowing() -> str:
        keys = chance.sample(list(pools), chance.randrange(0, 4))
        return urllib.parse.urlencode(
            [(k, chance.choice(pools[k])) for k in keys]
            + [("sort", chance.choice(["name", "-speed", "age", "media"]))]
        )

    timed("")
    narrowed = [timed(narrowing()) for _ in range(120)]
    report("narrowing with all counts, median", statistics.median(narrowed), 100.0, "ms")
    report("narrowing with all counts, 95th percentile", float(np.percentile(narrowed, 95)), 60.0, "ms")
    slips = ["habour", "lantrn", "pilto", "chrat", "estaury"]
    searched = [
        timed(
            "q="
            + urllib.parse.quote(
                " ".join(chance.choices([*_WORDS, *_KINDS, *slips, "4711"], k=chance.randrange(1, 3)))
            )
        )
        for _ in range(120)
    ]
    report("search, 95th percentile", float(np.percentile(searched, 95)), 100.0, "ms")
    page = client.get("/modes/777/")
    report("the page of a mode", float(page.headers["Server-Timing"].split("dur=")[1]), 100.0, "ms")
    page = client.get("/modes/777/history/")
    report("its history", float(page.headers["Server-Timing"].split("dur=")[1]), 200.0, "ms")
    times = [float(client.get("/").headers["Server-Timing"].split("dur=")[1]) for _ in range(7)]
    report("the start page", statistics.median(times), 100.0, "ms")


# --- many people -----------------------------------------------------------------------------


class _Person(threading.Thread):
    """Somebody with a browser: opens a page every 4 to 10 seconds, or opens, changes and saves a preset every
    1 to 3.
    """

    def __init__(self, port: int, number: int, saves: bool, until: float) -> None:
        super().__init__(daemon=True)
        self.port, self.number, self.saves, self.until = port, number, saves, until
        self.chance = random.Random(number)
        self.times: list[float] = []
        self.errors: list[str] = []
        self.saved: list[tuple[int, str, float]] = []
        self.merges = 0
        self.cookies: dict[str, str] = {}

    def ask(self, path: str, form: dict[str, Any] | None = None, timed: bool = True) -> tuple[int, str]:
        opened = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
        headers = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())}
        body = None
        if form is not None:
            headers |= {
                "Content-Type": "application/x-www-form-urlencoded",
                "X-CSRFToken": self.cookies.get("csrftoken", ""),
            }
            body = urllib.parse.urlencode(form)
        began = time.perf_counter()
        opened.request("POST" if body is not None else "GET", path, body, headers)
        answer = opened.getresponse()
        text = answer.read().decode()
        if timed:
            self.times.append(1000 * (time.perf_counter() - began))
        for line in answer.headers.get_all("Set-Cookie") or []:
            name, _, value = line.split(";")[0].partition("=")
            self.cookies[name] = value
        opened.close()
        if answer.status >= 500 or answer.status in (400, 403, 404):
            self.errors.append(f"{path}: {answer.status}")
        return answer.status, text

    def sign_in(self) -> None:
        who = ("ines", "quay-street-1") if not self.saves else (f"saver{self.number}", "a long password")
        self.ask("/sign-in/", timed=False)
        self.ask(
            "/sign-in/",
            {"username": who[0], "password": who[1], "csrfmiddlewaretoken": self.cookies["csrftoken"]},
            timed=False,
        )

    def run(self) -> None:
        try:
            time.sleep(self.chance.uniform(0, 7))  # nobody waits for a signal to begin
            while time.time() < self.until:
                self._save() if self.saves else self._look()
                time.sleep(self.chance.uniform(1, 3) if self.saves else self.chance.uniform(4, 10))
        except Exception as error:
            self.errors.append(repr(error))

    def _look(self) -> None:
        word = self.chance.choice(_WORDS)
        self.ask(
            self.chance.choice(
                [
                    f"/modes/?q={word}",
                    "/modes/?state=released&passes=8",
                    f"/modes/?printer=1&q={word}",
                    f"/modes/{self.chance.randrange(2000, MODES)}/",
                    "/modes/?sort=-speed",
                ]
            )
        )

    def _save(self) -> None:
        """Change one of two contested presets; when somebody was quicker, merge as the page offers and save
        again.
        """
        pk = self.chance.choice([1, 2])
        _, page = self.ask(f"/presets/{pk}/")
        version = re.search(r'name="version" value="(\d+)"', page)
        name = re.search(r'name="name" value="([^"]*)"', page)
        if version is None or name is None:
            self.errors.append(f"the page of preset {pk} has no form")
            return
        key = ("vacuum", "roller_pressure", "cleaning", "wiping", "heat_after")[self.number]
        value = float(self.chance.randrange(20, 40))
        form: dict[str, Any] = {
            "version": version[1],
            "name": name[1],
            "why": f"saver {self.number}",
            f"handling.{key}": value,
        }
        for _ in range(12):
            status, text = self.ask(f"/presets/{pk}/", form)
            if status == 302:
                self.saved.append((pk, key, value))
                return
            if status != 409:
                self.errors.append(f"saving preset {pk}: {status}")
                return
            self.merges += 1
            again = re.search(r'name="version" value="(\d+)"', text)
            assert again is not None
            form["version"] = again[1]
            for field in re.findall(r'name="take:([^"]+)"', text):
                form[f"take:{field}"] = "mine" if field == f"handling.{key}" else "theirs"
        self.errors.append("twelve merges were not enough")


def _crowd(home: Path) -> None:
    """Fifty people look and five save, against the real server in its own processes."""
    from greyanchor.library.models import MediaPreset

    print(f"\n{BROWSING} people browsing and {SAVING} saving for {SECONDS} seconds, on the same library")
    before = {p.pk: (p.version, p.history.count()) for p in MediaPreset.objects.filter(pk__in=(1, 2))}
    port = 8791
    environment = {**os.environ, "GREYANCHOR_HOME": str(home)}
    server = subprocess.Popen(
        [sys.executable, "-m", "greyanchor.cli", "serve", "--port", str(port)],
        env=environment,
        stdout=subprocess.DEVNULL,
    )
    try:
        for _ in range(300):
            try:
                http.client.HTTPConnection("127.0.0.1", port, timeout=1).request("GET", "/sign-in/")
                break
            except OSError:
                time.sleep(0.2)
        time.sleep(8)  # the library is read into memory meanwhile
        people = [_Person(port, i, i < SAVING, 0.0) for i in range(SAVING + BROWSING)]
        for one in people[: SAVING + 1]:
            one.sign_in()
        for one in people[SAVING + 1 :]:  # who browses is one account in many windows
            one.cookies = dict(people[SAVING].cookies)
        until = time.time() + SECONDS
        for one in people:
            one.until = until
            one.start()
        for one in people:
            one.join()
    finally:
        server.terminate()
        server.wait(timeout=20)
    times = [t for one in people for t in one.times]
    errors = [e for one in people for e in one.errors]
    report("pages and saves", len(times), float("inf"), "requests")
    report("errors", len(errors), 0.0, "")
    if errors:
        print(f"    {errors[:3]}")
    report("answered, 95th percentile", float(np.percentile(times, 95)), 500.0, "ms")
    lost = 0
    for pk, (version, entries) in before.items():
        preset = MediaPreset.objects.get(pk=pk)
        mine = [s for one in people for s in one.saved if s[0] == pk]
        changed = preset.version - version
        lost += abs(preset.history.count() - entries - changed)
        for key in {k for _, k, _ in mine}:
            last = [v for _, k, v in mine if k == key][-1]
            lost += preset.handling.get(key) != last
    report(
        "saves",
        sum(len(one.saved) for one in people),
        float("inf"),
        f"of which {sum(one.merges for one in people)} met another and were merged",
    )
    report("lost updates", lost, 0.0, "")


# --- a large pack ----------------------------------------------------------------------------


def _pack() -> None:
    """Export a pack of 500 modes, each with a profile of its own; wipe them; import it."""
    import io

    from django.contrib.auth.models import User

    from greyanchor.core.charts import patches
    from greyanchor.core.profiling.build import ProfileSettings, Separation, TableSizes, build_profile
    from greyanchor.library.models import Edition, PackImport, PrintMode
    from greyanchor.library.packs import builder, importing
    from greyanchor.profiles.models import Profile
    from tests.conftest import make_room

    print(f"\nA pack of {PACK} print modes, each with a profile of its own")
    room = make_room("petrel-44")
    made = build_profile(
        room.read(patches.profile_patches(300, 3.0)),
        ProfileSettings(Separation(total_ink=3.0), title="Bench", sizes=TableSizes(9, 9, 17, 17, 9)),
    )
    boundary = [[round(float(v), 2) for v in row] for row in made.gamut.boundary]
    chosen = list(PrintMode.objects.filter(state="released").order_by("pk")[:PACK])
    for i, mode in enumerate(chosen):
        data = bytearray(made.data)
        data[24:36] = b"".join(
            v.to_bytes(2, "big") for v in (2026, 1 + i % 12, 1 + i % 28, i % 24, i % 60, i // 60)
        )
        mode.profile = Profile.objects.create(
            title=f"Bench {i}",
            data=bytes(data),
            report=made.report,
            boundary=boundary,
            neutral=[[round(float(v), 3) for v in row] for row in made.neutral],
            lightest=made.gamut.lightest,
            darkest=made.gamut.darkest,
            channels=list("CMYK"),
        )
        mode.save()
    out = io.BytesIO()
    began = time.perf_counter()
    builder.pack_modes([m.pk for m in chosen], builder.Label("Five hundred"), out)
    report("export", time.perf_counter() - began, 60.0, "s")
    report("the pack", len(out.getvalue()) / 2**20, float("inf"), "MB")
    for mode in chosen:
        mode.history.all().delete()
    Edition.objects.all().delete()
    PrintMode.objects.filter(pk__in=[m.pk for m in chosen]).delete()
    PrintMode.objects.update(profile=None)
    Profile.objects.all().delete()
    user = User.objects.get(username="ines")
    job = importing.receive("five-hundred.zip", [out.getvalue()], user)
    began = time.perf_counter()
    importing.carry_on(job.pk)
    planned = time.perf_counter() - began
    importing.decide(job.pk, {"state": "packed"}, user)
    began = time.perf_counter()
    importing.carry_on(job.pk)
    written = time.perf_counter() - began
    job.refresh_from_db()
    assert job.step == PackImport.Step.DONE and job.result["counts"]["created"] == PACK, job.result
    report("testing and planning it", planned, 20.0, "s")
    report("importing it", written, 20.0, "s")
    report("the whole way in", planned + written, 20.0, "s")


if __name__ == "__main__":
    everything()
