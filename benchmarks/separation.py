"""From artwork to planes: colours and speed beside lcms2, screens, memory, the first look at a file."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image

from benchmarks.report import missed, report
from greyanchor.core.artwork.inspection import examine
from greyanchor.core.charts import patches
from greyanchor.core.formats import icc
from greyanchor.core.printing.throughput import Carriage, square_metres_an_hour
from greyanchor.core.profiling.build import ProfileSettings, build_profile
from greyanchor.core.profiling.softproof import test_form
from greyanchor.core.separation.conversion import Conversion
from greyanchor.core.separation.default_sources import default_source
from greyanchor.core.separation.halftone.judging import low_power
from greyanchor.core.separation.halftone.screens import Screen, parse_screen
from greyanchor.core.separation.link import DeviceLink, LinkSettings, ModeInks
from greyanchor.core.separation.profiles import ProfileColour
from tests import lcms
from tests.conftest import make_room
from tests.core.separation.conftest import hostile
from tests.core.test_engine_kinds import seven

_SCREENS = ("blue-noise", "diffusion", "am:lpi=60,angle=45,dot=round", "hybrid:lpi=60", "blue-noise:drops=3")
#: the fastest mode of the demo's largest printer: 64 inches, 4 passes both ways at 600 dpi
_LARGEST = Carriage(width=1626.0, swath=54.0, fastest=1000.0, firing=24.0)


def printer_profile() -> bytes:
    """A C M Y K profile of the stand-in press, from 800 patches."""
    readings = make_room("petrel-44").read(patches.profile_patches(800, 3.0))
    return build_profile(readings, ProfileSettings()).data


def _quickest(work: Callable[[], object], tries: int = 5) -> float:
    """Processor seconds of the quickest of several tries, on one core."""
    work()
    found = []
    for _ in range(tries):
        began = time.process_time()
        work()
        found.append(time.process_time() - began)
    return min(found)


def _photo(channels: int) -> np.ndarray:
    """A picture with grain, 8 bits (n, channels): about two million pixels."""
    form = test_form(500)
    random = np.random.default_rng(2)
    rgb = np.clip(form * 255.0 + random.normal(0.0, 1.5, form.shape), 0, 255).reshape(-1, 3)
    if channels == 3:
        return np.round(rgb).astype(np.uint8)
    black = 255.0 - rgb.max(axis=1, keepdims=True)
    return np.round(np.hstack([255.0 - rgb - 0.6 * black, 0.8 * black]).clip(0, 255)).astype(np.uint8)


def everything() -> None:
    """All figures of the print room's core."""
    print("\nFrom artwork to planes")
    data = printer_profile()
    mode = ModeInks(icc.loads(data))
    _colours(data, mode)
    _speed(data, mode)
    _screens()
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "press.icc").write_bytes(data)
        _whole(Path(folder))
        _first_look(Path(folder))
    sys.exit(1 if missed else 0)


def _colours(data: bytes, mode: ModeInks) -> None:
    for name, source, own, k in (
        ("R G B", default_source("rgb"), None, 3),
        ("C M Y K", ProfileColour(mode.profile), data, 4),
    ):
        pixels = hostile(k)
        for intent in ("perceptual", "relative"):
            got = Conversion(DeviceLink(source, mode, LinkSettings(intent))).convert(pixels)
            off = np.abs(got.astype(float) - lcms.Link(own, data, (k, 4), intent)(pixels)) / 655.35
            report(f"{name}, {intent}: off lcms2 at most", float(off.max()), 0.4, "%")
            report(f"{name}, {intent}: in the mean", float(off.mean()), 0.05, "%")


def _speed(data: bytes, mode: ModeInks) -> None:
    import greyanchor.core.separation.conversion as conversion

    whole, conversion.each = conversion.each, lambda work, parts: [work(p) for p in parts]
    seven_inks = seven().result.data
    try:
        for name, source, own, k, target, goal in (
            ("R G B to four inks", default_source("rgb"), None, 3, data, 1.0),
            ("C M Y K to four inks", ProfileColour(mode.profile), data, 4, data, 1.0),
            ("R G B to seven inks", default_source("rgb"), None, 3, seven_inks, 0.8),
        ):
            inks = ModeInks(icc.loads(target))
            pixels = _photo(k)
            made = Conversion(DeviceLink(source, inks, LinkSettings("relative")))
            other = lcms.Link(own, target, (k, len(inks.channels)), "relative", bits=8, exact=False)
            ours = len(pixels) / _quickest(partial(made.convert, pixels), 9) / 1e6
            theirs = len(pixels) / _quickest(partial(other, pixels), 9) / 1e6
            print(f"    {name}: {ours:.1f} million a second, lcms2 {theirs:.1f}")
            report(f"{name}, beside lcms2 (at least)", -ours / theirs, -goal, "times")
    finally:
        conversion.each = whole


def _screens() -> None:
    for text in _SCREENS:
        worst, low = 0.0, 0.0
        for percent in (1, 5, 25, 50, 75, 95, 99):
            screen = Screen(parse_screen(text), 600, 768)
            levels = screen.levels(np.full((768, 768), round(percent * 655.35), dtype=np.uint16))
            ink = np.array([0.0, *screen.volumes])[levels]
            worst = max(worst, abs(100.0 * ink.mean() - percent))
            low = max(low, low_power(ink[256:, 256:], percent / 100.0))
        report(f"{text}: flat fields off by", worst, 0.3, "%")
        if text in ("blue-noise", "diffusion"):
            report(f"{text}: low-frequency power of white noise's", 100.0 * low, 5.0, "%")


def _prepared(folder: Path, art: Path, *options: str, cores: int = 2) -> dict[str, float]:
    """`greyanchor prepare` in a process of its own, on so many cores."""
    program = (
        "import os; os.sched_setaffinity(0, set(range(int(os.environ['CORES'])))); "
        "os.cpu_count = lambda: int(os.environ['CORES']); "
        "import sys; from greyanchor.cli import main; main(sys.argv[1:])"
    )
    out = str(folder / "print.tif")
    command = [sys.executable, "-c", program, "prepare", str(art), "-o", out, "--profile",
               str(folder / "press.icc"), "--json", *options]  # fmt: skip
    environment = {**os.environ, "CORES": str(cores), "VIPS_CONCURRENCY": str(cores)}
    found = subprocess.run(command, capture_output=True, text=True, env=environment, check=True)
    return json.loads(found.stdout)


def _whole(folder: Path) -> None:
    art = folder / "photo.jpg"
    Image.fromarray(np.round(test_form(600) * 255).astype(np.uint8)).save(art, dpi=(150, 150), quality=92)
    _prepared(folder, art, "--resolution", "300")
    one = _prepared(folder, art, "--resolution", "1200", cores=1)
    two = _prepared(folder, art, "--resolution", "1200", cores=2)
    speed = square_metres_an_hour(_LARGEST, 1200, 4, "both ways")
    needed = speed / 3600.0 * (1200 / 0.0254) ** 2 / 1e6
    print(f"    the largest printer's fastest mode: {speed:.1f} m2/h, {needed:.1f} million dots a second")
    report("to 1-bit planes at 1200 dpi, one core (at least)", -one["megapixels_per_second"], -needed, "M/s")
    gain = two["megapixels_per_second"] / one["megapixels_per_second"]
    report("two cores over one (at least)", -gain, -1.8, "times")
    banner = folder / "banner.tif"
    import pyvips

    noise = pyvips.Image.gaussnoise(1500, 20000, mean=128, sigma=40).cast("uchar")
    noise.bandjoin([noise.flip("horizontal"), noise.flip("vertical")]).copy(
        interpretation="srgb", xres=1.0, yres=1.0
    ).tiffsave(str(banner), compression="deflate")
    found = _prepared(folder, banner, "--resolution", "300", "--width", "1500")
    report("memory of a banner of 1.5 x 20 m", found["peak_mb"], 600.0, "MB")


def _first_look(folder: Path) -> None:
    large = folder / "large.jpg"
    form = test_form(1800)
    Image.fromarray(np.round(form * 255).astype(np.uint8)).resize((8660, 5774)).save(large, quality=90)
    import pyvips

    began = time.perf_counter()
    pyvips.Image.thumbnail(str(large), 440, size="down").jpegsave(str(folder / "small.jpg"))
    report("first picture of a JPEG of 50 million pixels", time.perf_counter() - began, 1.5, "s")
    began = time.perf_counter()
    examine(large)
    report("its examination", time.perf_counter() - began, 3.0, "s")


if __name__ == "__main__":
    everything()
