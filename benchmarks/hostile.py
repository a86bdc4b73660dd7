"""Hostile files of all kinds, generated and mutated: `python -m benchmarks.hostile [how many]`.

Each file is given to what reads its kind, in a process of its own with limits. A refusal is a `BadInput`; any
other exception, a wait of over ten seconds or a gigabyte of memory is a fault, and is printed with its seed.
"""

from __future__ import annotations

import io
import multiprocessing
import random
import resource
import signal
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.report import report

MOST_SECONDS, MOST_BYTES = 10, 2**30
#: tokens that parsers stumble over
_TOKENS = (
    b"NaN", b"inf", b"-1", b"0", b"1e999", b"99999999999999999999", b"\x00", b"\xff\xfe", b"<!ENTITY a 'b'>",
    b"BEGIN_DATA\n", b"END_DATA\n", b"NUMBER_OF_SETS 999999999\n", b'"', b",,,,", b"../../x", b"%s%n",
    b"]" * 50, b"[" * 3000, b"<a>" * 500, b"\n" * 100, b"\xe2\x80\xae", b"&lol;",
)  # fmt: skip
Reader = Callable[[bytes, str], Any]


def _texts() -> list[tuple[str, bytes]]:
    from greyanchor.core.charts.layout import lay_out
    from greyanchor.core.charts.patches import design
    from greyanchor.core.formats import cgats, csv_table, cxf_writing
    from greyanchor.core.simulation.catalogue import press_by_name
    from greyanchor.core.simulation.standin import print_and_read

    channels = tuple("CMYK")
    chart, _ = lay_out(design("linearization", channels, 40, 3.0, {}), channels)
    readings = print_and_read(chart, press_by_name("petrel-44"), 1, 1)
    dumped = (
        ("a.txt", cgats.dumps(readings)),
        ("a.cxf", cxf_writing.dumps(readings)),
        ("a.csv", csv_table.dumps(readings)),
    )
    return [(n, t.encode() if isinstance(t, str) else t) for n, t in dumped]


def _zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return out.getvalue()


def _pictures() -> list[tuple[str, bytes]]:
    from PIL import Image
    from reportlab.pdfgen.canvas import Canvas

    found, ramp = [], Image.radial_gradient("L").resize((64, 48))
    for ending, mode in (("png", "RGB"), ("jpg", "RGB"), ("tif", "CMYK")):
        out = io.BytesIO()
        ramp.convert("RGB").convert(mode).save(out, {"jpg": "JPEG", "tif": "TIFF", "png": "PNG"}[ending])
        found.append((f"a.{ending}", out.getvalue()))
    out = io.BytesIO()
    page = Canvas(out, pagesize=(200, 200), invariant=1)
    page.drawString(20, 20, "A page")
    page.save()
    return [
        *found,
        ("a.pdf", out.getvalue()),
        ("a.eps", b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 9 9\nshowpage\n"),
    ]


def _profile() -> bytes:
    from PIL import ImageCms

    return bytes(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())


def _read_pack(data: bytes, name: str) -> None:
    from greyanchor.core.packs import Archive, read_pack

    with tempfile.NamedTemporaryFile(suffix=".zip") as kept:
        kept.write(data)
        kept.flush()
        with Archive(Path(kept.name), name) as archive:
            read_pack(archive)


def _examine(data: bytes, name: str) -> None:
    from greyanchor.core.artwork.inspection import examine

    with tempfile.NamedTemporaryFile(suffix=Path(name).suffix) as kept:
        kept.write(data)
        kept.flush()
        examine(Path(kept.name))


def seeds() -> list[tuple[str, bytes, list[Reader]]]:
    """Sound files with what reads them."""
    from greyanchor.core.calibration.curves import CurveSet
    from greyanchor.core.formats import icc, light_file, readings_file
    from greyanchor.core.inspection import inspect_bytes
    from greyanchor.core.packs.loose import unpack
    from greyanchor.core.verification import aims, spot_files, tolerances

    profile, found = _profile(), []
    for name, data in _texts():
        found.append((name, data, [readings_file.loads, inspect_bytes, spot_files.from_file, aims.loads]))
    found.append(("a.icc", profile, [icc.loads, inspect_bytes]))
    found.append(
        (
            "a.zip",
            _zipped({"a.icc": profile, "b/c.icc": profile}),
            [lambda d, n: unpack([(n, d)]), _read_pack],
        )
    )
    manifest = b'{"format": "grey-anchor-pack", "version": 1, "files": {}, "modes": []}'
    found.append(("p.zip", _zipped({"manifest.json": manifest, "pack.json": manifest}), [_read_pack]))
    grid = "".join(f"C,{x},{x}\n" for x in range(0, 101, 5))
    found.append(
        (
            "c.csv",
            f"channel,input,output\n{grid}".encode(),
            [lambda d, n: CurveSet.from_csv(d.decode("utf-8", "replace"), n), inspect_bytes],
        )
    )
    spots = b"name,tint,L,a,b\nBuoy red,100,42,60,30\nBuoy red,50,70,30,12\n"
    found.append(("s.csv", spots, [spot_files.from_file]))
    spectrum = "".join(f"{nm} {1 + nm / 500:.3f}\n" for nm in range(380, 731, 10)).encode()
    found.append(("l.txt", spectrum, [light_file.loads, light_file.loads_spectrum]))
    from greyanchor.core.verification.shipped import SHIPPED

    found.append(
        (
            "t.json",
            next(iter(SHIPPED.values())).to_json().encode(),
            [lambda d, n: tolerances.from_json(d.decode("utf-8", "replace"), n)],
        )
    )
    found += [(name, data, [_examine]) for name, data in _pictures()]
    return found


def mutated(data: bytes, other: bytes, rnd: random.Random) -> bytes:
    """A file with one or a few things done to it."""
    made = bytearray(data)
    for _ in range(rnd.choice((1, 1, 1, 2, 3, 8))):
        if not made:
            break
        at, kind = rnd.randrange(len(made)), rnd.randrange(9)
        if kind == 0:
            made[at] ^= 1 << rnd.randrange(8)
        elif kind == 1:
            made[at : at + rnd.randint(1, 40)] = b""
        elif kind == 2:
            made[at:at] = rnd.choice(_TOKENS)
        elif kind == 3:
            made[at : at + rnd.randint(1, 8)] = rnd.randbytes(rnd.randint(1, 8))
        elif kind == 4:
            del made[at:]
        elif kind == 5:
            start = rnd.randrange(len(other) or 1)
            made[at:at] = other[start : start + rnd.randint(1, 200)]
        elif kind == 6:
            made[at:at] = made[at : at + rnd.randint(1, 300)] * rnd.randint(1, 20)
        elif kind == 7:
            made[at : at + 4] = (2 ** rnd.randint(0, 32) - 1).to_bytes(5, "big")[-4:]
        else:
            digits = [i for i in range(at, min(len(made), at + 200)) if 48 <= made[i] < 58]
            if digits:
                made[digits[0] : digits[0] + 1] = rnd.choice((b"-", b"9" * 30, b"1e308", b"nan", b""))
    return bytes(made)


class _TooLong(Exception):
    pass


def _alarm(*_: Any) -> None:
    raise _TooLong


def _work(part: int, count: int, faults: Any, kinds: Any, worst: Any) -> None:
    from greyanchor.core.errors import BadInput

    np.seterr(all="ignore")
    found, rnd = seeds(), random.Random(part)
    signal.signal(signal.SIGALRM, _alarm)
    weights = [0.05 if readers == [_examine] else 1.0 for _, _, readers in found]
    for i in range(count):
        name, data, readers = rnd.choices(found, weights)[0]
        other = rnd.choice(found)[1]
        bad = rnd.randbytes(rnd.randint(0, 3000)) if rnd.random() < 0.03 else mutated(data, other, rnd)
        began = time.perf_counter()
        signal.alarm(MOST_SECONDS)
        try:
            rnd.choice(readers)(bad, name)
            kinds.append("read")
        except BadInput:
            kinds.append("refused")
        except BaseException as error:
            at = traceback.extract_tb(error.__traceback__)[-1]
            where = f"{at.filename}:{at.lineno}"
            said = f"{type(error).__name__}: {error} at {where}"
            faults.append(f"{name} part {part} number {i}: {said[:300]}")
        finally:
            signal.alarm(0)
        worst.value = max(worst.value, time.perf_counter() - began)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    if peak > MOST_BYTES:
        faults.append(f"part {part} took {peak / 2**20:.0f} MB")


def run(count: int = 2000) -> None:
    """Try `count` files on all cores."""
    print("\nHostile files, generated and mutated, at what reads them")
    cores = multiprocessing.cpu_count()
    with multiprocessing.Manager() as manager:
        faults, kinds, worst = manager.list(), manager.list(), manager.Value("d", 0.0)
        parts = [
            multiprocessing.Process(target=_work, args=(p, count // cores, faults, kinds, worst))
            for p in range(cores)
        ]
        for p in parts:
            p.start()
        for p in parts:
            p.join()
            if p.exitcode:
                faults.append(f"a process ended with {p.exitcode}")
        for fault, times in Counter(f.partition(": ")[2] for f in faults).most_common(40):
            first = next(f for f in faults if f.endswith(fault))
            print(f"    {times} x {first}")
        said = ", ".join(f"{n} {k}" for k, n in Counter(kinds).items())
        report(f"of {count} files ({said}): faults", len(faults), 0, "")
        report("longest", worst.value, MOST_SECONDS, "s")


if __name__ == "__main__":
    run(int(sys.argv[1]) if len(sys.argv) > 1 else 2000)
