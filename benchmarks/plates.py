"""Plates and films: screens, tones, rosettes, four A3 plates, and dots of linearized films."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from reportlab.lib.colors import CMYKColor
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas

from benchmarks.report import report
from greyanchor.core.calibration.film import (
    SHORT,
    dot_chart,
    film_tones,
    find_opacity,
    linearize_film,
    opacity_chart,
)
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.measurement.readings import TRANSMISSION, ReadingSet
from greyanchor.core.measurement.repeatability import average
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.throughput import square_metres_an_hour
from greyanchor.core.separation.halftone.rosettes import Asked, drift_over_metre, in_threes, lattices
from greyanchor.core.separation.halftone.screens import Screen, parse_screen
from greyanchor.core.simulation.film import FILMS, FilmPress, read_film
from greyanchor.devices.print_server.machine import MODELS

_RESOLUTIONS, _LINES = (
    (600.0, 720.0, 1200.0, 1440.0, 2400.0),
    (25.0, 35.0, 45.0, 55.0, 60.0, 65.0, 85.0, 100.0),
)
_ANGLES = ((15.0, 75.0, 0.0, 45.0), (7.5, 67.5, 82.5, 37.5), (22.5, 52.5, 7.5, 82.5))
_SCREENS = (
    "am:lpi=60,dot=round",
    "am:lpi=60,dot=ellipse",
    "am:lpi=60,dot=square",
    "am:lpi=60,dot=line",
    "hybrid:lpi=85",
    "blue-noise",
    "blue-noise:smallest=2",
)
_INKS = (("K",), ("K", "Y"))


def everything() -> None:
    """All of it."""
    print("\nPlates and films")
    _lattices()
    _flat_fields()
    _four_plates()
    _films()


def _lattices() -> None:
    off, turned, drift = 0.0, 0.0, 0.0
    for dpi in _RESOLUTIONS:
        for lines in _LINES:
            for angles in _ANGLES:
                asked = [Asked(lines, a) for a in angles]
                made = lattices(asked, dpi)
                off = max(off, *(abs(m.frequency / lines - 1.0) for m in made))
                turned = max(turned, *(abs(m.angle - a) for m, a in zip(made, angles)))
                [three] = in_threes(asked)
                drift = max(drift, drift_over_metre([made[i] for i in three], dpi))
    report("frequency of every screen, worst", 100.0 * off, 0.5, "%")
    report("angle of every screen, worst", turned, 0.3, "deg")
    report("rosette over 1 m, worst", drift, 0.1, "cells")


def _flat_fields() -> None:
    worst = 0.0
    for text in _SCREENS:
        for angle in (0.0, 15.0, 45.0, 75.0):
            spec = parse_screen(text)
            screen = Screen(replace(spec, angle=angle), 1440.0, 3072)
            for tone in (0.5, 1, 2, 5, 10, 25, 40, 50, 60, 75, 90, 95, 98, 99, 99.5):
                field = np.full((3072, 3072), round(655.35 * tone), np.uint16)
                dots = np.bitwise_count(screen.packed(field)).sum() / 3072**2
                worst = max(worst, abs(100.0 * float(dots) - tone))
            if spec.kind == "blue-noise":
                break
    report("flat fields of every screen, worst", worst, 0.3, "%")


def _art(path: Path) -> None:
    """An A3 page in four inks: scales, tones and words."""
    page = Canvas(str(path), pagesize=(297 * mm, 420 * mm), invariant=1)
    for place in range(4):
        for step in range(1, 21):
            values = [0.0] * 4
            values[place] = step / 20.0
            page.setFillColor(CMYKColor(*values))
            page.rect((10 + 13.5 * step) * mm, (20 + 30 * place) * mm, 13.5 * mm, 28 * mm, fill=1, stroke=0)
    page.setFillColor(CMYKColor(0.5, 0.4, 0.4, 0.1))
    page.rect(20 * mm, 160 * mm, 250 * mm, 120 * mm, fill=1, stroke=0)
    page.setFillColor(CMYKColor(0, 0, 0, 1))
    page.setFont("Helvetica-Bold", 80)
    page.drawCentredString(148 * mm, 330 * mm, "Harbour")
    page.save()


def _four_plates() -> None:
    with tempfile.TemporaryDirectory() as folder:
        art, out = Path(folder) / "a3.pdf", Path(folder) / "plates"
        _art(art)
        command = [
            sys.executable, "-m", "greyanchor.cli", "plates", str(art), "-o", str(out), "--marks", "--json",
            "--screen", "am:lpi=60", "--resolution", "1440",
        ]  # fmt: skip
        before = os.times()
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        took = os.times().elapsed - before.elapsed
        facts: dict[str, Any] = json.loads(done.stdout)
    square_metres = 4 * (297 + 28) * (420 + 28) / 1e6
    for passes, direction in ((8, "one way"), (6, "both ways")):
        speed = square_metres_an_hour(MODELS["petrel-44"].carriage, 1440, passes, direction, 0.0, 1.0)
        prints = 3600.0 * square_metres / speed
        report(f"four A3 plates, 1440 dpi; printed in {passes} passes {direction}", took, prints, "s")
    report("four A3 plates, memory", float(facts["peak_mb"]), 600.0, "MB")


def _read(
    press: FilmPress, chart: ReadingSet, seed: int, solid: dict[str, float] | None = None
) -> ReadingSet:
    true = press.densities(chart, seed, solid=solid)
    passes = [
        replace(chart, densities=read_film(true, (seed, number)), condition=TRANSMISSION) for number in (1, 2)
    ]
    return average(passes)


def _films() -> None:
    means, most, opaque = [], [], []
    for film in FILMS.values():
        for screen in ("am:lpi=45,dot=round", "am:lpi=60,dot=ellipse", "am:lpi=85,dot=line"):
            for inks in _INKS:
                for seed in (3, 11):
                    one, two, density = _film(film, screen, inks, seed)
                    means.append(one)
                    most.append(two)
                    opaque.append(density)
    report("film linearized: dots off what was asked, mean, worst film", max(means), 0.6, "%")
    report("film linearized: dots off what was asked, largest", max(most), 1.5, "%")
    report(
        "solids that are less opaque than asked (3.5 UV)", float(np.sum(np.array(opaque) < 3.5)), 0.0, "films"
    )


def _film(film: Any, screen: str, inks: tuple[str, ...], seed: int) -> tuple[float, float, float]:
    """Dots of a second print through the curve found, mean and largest off, and the density of its solid."""
    name = re.sub(r"\W+", " ", film.name)
    environment = PrintEnvironment("Petrel 44", "Tarn pigment, films", name, resolution=1440, screen=screen)
    press = FilmPress(film, environment)
    found = find_opacity(_read(press, lay_out(opacity_chart(len(inks)), inks)[0], seed))
    solid = {c: found.limit * (1.0 if i == 0 else found.share) for i, c in enumerate(inks)}

    def through(tones: Any, curve: Any, number: int) -> ReadingSet:
        chart, _ = lay_out(dot_chart(tones), ("K",))
        dots = np.interp(chart.values()[:, 0], np.linspace(0.0, 1.0, len(curve)), curve)
        raw = replace(chart, channels=inks, device=np.column_stack([dots * solid[c] for c in inks]))
        seen = _read(press, raw, number, solid)
        return replace(seen, channels=chart.channels, device=chart.device)

    curve = linearize_film(through(tuple(range(2, 100, 4)), np.linspace(0, 1, 2), seed + 1))
    tones = film_tones(through(SHORT, curve.areas, seed + 2))
    return tones.mean, tones.largest, tones.solid_uv
