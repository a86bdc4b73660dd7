"""Prints on a machine: kills during 300 of them, a ledger of 200,000, and from go to the first band."""

from __future__ import annotations

import http.cookiejar
import json
import os
import random
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from collections import Counter
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.report import missed, report

PRINTS, LEDGER, WAITING, PEOPLE = 300, 200_000, 500, 10
_PASSWORD = "quay-street-1"


def everything() -> None:
    """All figures of prints, in a home of its own."""
    with tempfile.TemporaryDirectory() as home:
        os.environ.update(GREYANCHOR_HOME=home, DJANGO_SETTINGS_MODULE="greyanchor.config.settings")
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        shop = _Shop(Path(home))
        try:
            _first_band(shop)
            _kills(shop)
        finally:
            shop.close()
        _ledger(shop)
    sys.exit(1 if missed else 0)


def _free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


class _Shop:
    """A served shop with a machine, each a process of its own that can be killed and comes back."""

    def __init__(self, home: Path) -> None:
        self.home, self.printer_port, self.web_port = home, _free_port(), _free_port()
        self.processes: dict[str, subprocess.Popen[bytes]] = {}
        self.record = self._records()

    def _records(self) -> Any:
        from django.contrib.auth.models import User

        from greyanchor.demo import seed
        from greyanchor.library.models import DeviceConnection, Media, Printer, PrintMode
        from greyanchor.printroom.models import Artwork, Job, PrintFile

        seed.people_and_machines()
        self.user = User.objects.get(username="ines")
        printer = Printer.objects.get(name="Petrel 44")
        media = Media.objects.get(name="Harbour Proof Semimatt 235")
        address = f"ipp://127.0.0.1:{self.printer_port}/ipp/print"
        DeviceConnection.objects.filter(printer=printer).update(options={"address": address})
        inks = printer.ink_sets.order_by("pk").first()
        assert inks is not None
        environment = {
            "printer": printer.model, "ink_set": inks.name, "media": media.name, "resolution": 600,
            "passes": 8, "direction": "one way", "halftone": "blue noise",
        }  # fmt: skip
        self.mode = PrintMode.objects.create(
            name="Bench",
            printer=printer,
            ink_set=inks,
            media=media,
            environment=environment,
            state="released",
        )
        artwork = Artwork.objects.create(name="bench.png", sha256="0" * 64, size=1, file="x", state="done")
        self.job = Job.objects.create(artwork=artwork, name="bench.png", mode=self.mode)
        return self._print_file(40.0, 30.0, PrintFile)

    def _print_file(self, wide: float, tall: float, model: Any) -> Any:
        """A prepared print file of a size in mm."""
        from greyanchor.core.printing.plane_file import PlaneLayout, PlaneWriter
        from greyanchor.printroom import files

        width, height = round(wide / 25.4 * 600), round(tall / 25.4 * 600)
        inks = tuple("CMYK")
        ticket = {"edition": 0, "printer": "Petrel 44", "ink_set": self.mode.ink_set.name, "mode": "Bench",
                  "ink_ml": dict.fromkeys(inks, 0.01),
                  "environment": self.mode.environment_hash,
                  "settings": {"environment": self.mode.environment, "handling": {}}}  # fmt: skip
        name = f"print-files/bench-{width}x{height}.tif"
        writer = PlaneWriter(files.place(name), PlaneLayout(width, height, inks, 1, 600.0), 256, ticket)
        rows = np.full((256, -(-width // 8)), 0x11, dtype=np.uint8)
        for top in range(0, height, 256):
            writer.write([rows[: min(256, height - top)]] * 4)
        writer.close()
        facts = {"width": width, "height": height, "resolution": 600.0, "ink_ml": dict.fromkeys(inks, 0.01)}
        return model.objects.create(
            job=self.job, mode=self.mode, ticket=ticket, facts=facts, file=name, state="done"
        )

    def start(self, what: str) -> None:
        """Start a process that is not running."""
        command = {
            "printer": ["printer", "--model", "petrel-44", "--media", "Harbour Proof Semimatt 235", "--port",
                        str(self.printer_port), "--folder", str(self.home / "printer"), "--clock", "60"],
            "worker": ["worker"],
            "second worker": ["worker"],
            "web": ["serve", "--port", str(self.web_port)],
        }[what]  # fmt: skip
        self.processes[what] = subprocess.Popen(
            [sys.executable, "-m", "greyanchor.cli", *command],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip

    def kill(self, what: str) -> None:
        """Kill a process and all it started, at once."""
        process = self.processes.pop(what)
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def close(self) -> None:
        for what in list(self.processes):
            self.kill(what)

    def printed(self) -> Counter[str]:
        """How often each print was begun on the media, by its key, as the machine itself remembers."""
        found: Counter[str] = Counter()
        log = self.home / "printer" / "prints.jsonl"
        for line in log.read_text().splitlines() if log.exists() else []:
            name = json.loads(line)["name"]
            found[name.rpartition("[")[2].rstrip("]")] += 1
        return found


def _until(true: Any, seconds: float) -> bool:
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        if true():
            return True
        time.sleep(0.02)
    return False


def _first_band(shop: _Shop) -> None:
    """From *go* on a ready A3 print file to the moment that the machine prints it."""
    from greyanchor.printroom import prints
    from greyanchor.printroom.models import Print, PrintFile

    a3 = shop._print_file(420.0, 297.0, PrintFile)
    shop.start("printer")
    shop.start("worker")
    _until(lambda: _answers(shop), 30.0)
    taken = []
    for _ in range(7):
        record = prints.order(a3, shop.user)
        began = time.perf_counter()
        prints.go(record)
        _until(lambda r=record: _client(shop).share_of(r.key) > 0.0, 20.0)  # type: ignore[misc]
        taken.append(time.perf_counter() - began)
        _until(lambda r=record: Print.objects.get(pk=r.pk).is_over, 60.0)  # type: ignore[misc]
    report("from go to the first band, A3", statistics.median(taken), 1.0, "s")
    shop.close()


class _Asked:
    def __init__(self, shop: _Shop) -> None:
        from greyanchor.devices.ipp.client import IppClient
        from greyanchor.devices.ipp.queue import IppQueue

        self.queue = IppQueue(IppClient(f"ipp://127.0.0.1:{shop.printer_port}/ipp/print", seconds=5.0))

    def share_of(self, key: str) -> float:
        found = self.queue.find(key)
        if found is None:
            return 0.0
        return 1.0 if found.state == "done" else float(found.share or 0.0)


def _client(shop: _Shop) -> _Asked:
    return _Asked(shop)


def _answers(shop: _Shop) -> bool:
    try:
        _client(shop).queue.machine()
    except ValueError:
        return False
    return True


def _kills(shop: _Shop) -> None:
    """Web, workers, printer and line are killed at random while 300 prints go through."""
    from greyanchor.printroom import prints
    from greyanchor.printroom.models import Print

    earlier = shop.printed()
    ordered = [prints.order(shop.record, shop.user, hold=False) for _ in range(PRINTS)]
    names = ("printer", "worker", "second worker", "web")
    for what in names:
        shop.start(what)
    chance, kills, over = random.Random(3), Counter[str](), threading.Event()

    def killer() -> None:
        while not over.wait(chance.uniform(2.0, 7.0)):
            what = chance.choice(names)
            shop.kill(what)
            kills[what] += 1
            over.wait(chance.uniform(0.0, 1.0))
            shop.start(what)

    thread = threading.Thread(target=killer)
    began = time.monotonic()
    thread.start()
    keys = {p.key for p in ordered}

    def left() -> int:
        from django.db import OperationalError

        try:
            return Print.objects.filter(key__in=keys).exclude(state__in=Print.OVER).count()
        except OperationalError:
            return 1

    _until(lambda: left() == 0, 1500.0)
    over.set()
    thread.join()
    took = time.monotonic() - began
    shop.close()
    found = {p.key: p for p in Print.objects.filter(key__in=keys)}
    printed = shop.printed() - earlier
    twice = sum(1 for key in keys if printed[key] > 1)
    states = Counter(p.state for p in found.values())
    lost = sum(
        1 for key in keys if not found[key].is_over or (found[key].state == "done" and not printed[key])
    )
    unsaid = sum(1 for key in keys if found[key].state == "failed" and not found[key].reason)
    half = len([p for p in shop.home.rglob("*.part") if p.is_file()])
    print(f"  {PRINTS} prints in {took:.0f} s, killed {dict(kills)}; they ended {dict(states)}")
    report("prints lost", float(lost), 0.0, "")
    report("prints made twice", float(twice), 0.0, "")
    report("failed without a word", float(unsaid), 0.0, "")
    report("files half made", float(half), 0.0, "")


# --- the long ledger -------------------------------------------------------------------------


def _ledger(shop: _Shop) -> None:
    """Pages of a list with 200,000 done and 500 waiting prints, ten people looking at once."""
    from django.utils import timezone

    from greyanchor.printroom.models import Print, week_of

    now = timezone.now()
    made = []
    for i in range(LEDGER):
        at = now - timedelta(minutes=3 * i)
        made.append(
            Print(
                print_file=shop.record, printer=shop.mode.printer, mode=shop.mode, key=f"b{i}", state="done",
                media="Harbour Proof Semimatt 235",
                media_mm=500.0, ink_total_ml=1.0, sent_at=at, ended_at=at, week=week_of(at),
                asked_by=shop.user,
            )
        )  # fmt: skip
        if len(made) == 5000:
            Print.objects.bulk_create(made)
            made = []
    Print.objects.bulk_create(
        Print(
            print_file=shop.record,
            printer=shop.mode.printer,
            mode=shop.mode,
            key=f"w{i}",
            state="held",
            place=i,
        )
        for i in range(WAITING)
    )
    shop.start("web")
    shop.start("printer")
    base = f"http://127.0.0.1:{shop.web_port}"
    _until(lambda: _alive(base), 60.0)
    pages = (
        "/prints/", "/prints/?page=40", f"/prints/?mode={shop.mode.pk}", "/prints/?q=bench", "/prints/used/",
        f"/machines/{shop.mode.printer_id}/", "/machines/", f"/prints/{Print.objects.latest('pk').pk}/",
    )  # fmt: skip
    taken: dict[str, list[float]] = {page: [] for page in pages}

    def person(number: int) -> None:
        browser = _signed_in(base)
        chance = random.Random(number)
        for _ in range(24):
            page = chance.choice(pages)
            began = time.perf_counter()
            browser.open(base + page, timeout=30).read()
            taken[page].append(time.perf_counter() - began)
            time.sleep(chance.uniform(0.5, 2.0))

    people = [threading.Thread(target=person, args=(n,)) for n in range(PEOPLE)]
    for thread in people:
        thread.start()
    for thread in people:
        thread.join()
    shop.close()
    for page, times in taken.items():
        print(f"  {page:28} median {1000 * statistics.median(times):4.0f} ms, {len(times)} times")
    every = sorted(t for times in taken.values() for t in times)
    report("a page, ten people looking, 95th", 1000.0 * every[int(0.95 * len(every))], 100.0, "ms")


def _alive(base: str) -> bool:
    try:
        return bool(urllib.request.urlopen(f"{base}/healthz", timeout=2).status == 200)
    except OSError:
        return False


def _signed_in(base: str) -> urllib.request.OpenerDirector:
    jar = http.cookiejar.CookieJar()
    browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    browser.open(f"{base}/sign-in/").read()
    token = next(c.value for c in jar if c.name == "csrftoken")
    form = {"username": "ines", "password": _PASSWORD, "csrfmiddlewaretoken": token}
    request = urllib.request.Request(
        f"{base}/sign-in/", urllib.parse.urlencode(form).encode(), {"Referer": f"{base}/sign-in/"}
    )
    browser.open(request).read()
    return browser


if __name__ == "__main__":
    everything()
