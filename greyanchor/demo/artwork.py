"""Made-up artwork of the demo, drawn here: charts, covers, a banner, and a bad file of each kind."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator

import numpy as np
from PIL import Image, ImageCms
from reportlab.lib.colors import CMYKColor, CMYKColorSep, Color
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.profiling.softproof import test_form
from greyanchor.drawing.typefaces import REGULAR as SANS
from greyanchor.drawing.typefaces import register

_WATER = CMYKColorSep(0.45, 0.08, 0.02, 0.0, spotName="Shoal blue", density=1.0)
_LAND = CMYKColorSep(0.02, 0.12, 0.38, 0.02, spotName="Land buff", density=1.0)
_CUT = CMYKColorSep(0.0, 1.0, 0.0, 0.0, spotName="CutContour", density=1.0)
_ROSE = CMYKColorSep(0.1, 0.9, 0.1, 0.1, spotName="Compass crimson", density=1.0)
_INK = CMYKColor(0, 0, 0, 1)
_SHIRT = {
    "Underbase White": (0.0, 0.0, 0.03, 0.0),
    "Beacon Yellow": (0.0, 0.15, 0.95, 0.0),
    "Buoy Red": (0.0, 0.95, 0.9, 0.0),
    "Kelp Green": (0.8, 0.1, 0.9, 0.1),
    "Deep Water Blue": (1.0, 0.7, 0.0, 0.2),
    "Outline Black": (0.0, 0.0, 0.0, 1.0),
}


def pieces() -> Iterator[tuple[str, bytes]]:
    """File names and contents of a dozen pieces."""
    drawn: tuple[tuple[str, Callable[[], bytes]], ...] = (
        ("harbour-chart-lantern-sound.pdf", harbour_chart),
        ("pilot-book-cover.jpg", book_cover),
        ("deck-chart-north.tif", deck_chart),
        ("pier-banner-six-metres.pdf", banner),
        ("tide-tables-two-pages.pdf", tide_tables),
        ("buoy-sticker-round.pdf", sticker),
        ("signal-flags-one-bit.tif", signal_flags),
        ("fog-signal-notice.eps", notice),
        ("lighthouse-from-the-web.jpg", soft_picture),
        ("night-approach-heavy-ink.tif", heavy_ink),
        ("old-plan-fonts-missing.pdf", fonts_missing),
        ("harbour-plan-cut-off.png", cut_off),
        ("locked-proof.pdf", locked),
        ("crew-shirt-six-spots.pdf", crew_shirt),
    )
    for name, draw in drawn:
        yield name, draw()


def _canvas(out: io.BytesIO, width: float, height: float) -> Canvas:
    register()
    made = Canvas(out, pagesize=(width * mm, height * mm), invariant=1)
    made.setTitle("Northlight Chart House")
    return made


def _coast(steps: int, seed: int, width: float, height: float, base: float) -> list[tuple[float, float]]:
    """A coastline across a page, mm: a sum of a few waves."""
    random = np.random.default_rng(seed)
    x = np.linspace(0.0, 1.0, steps)
    y = np.full(steps, base)
    for wave in range(1, 9):
        y += 0.16 / wave * np.sin(2 * np.pi * (wave * 1.3 * x + random.random()))
    return [(float(a * width), float(np.clip(b, 0.03, 0.97) * height)) for a, b in zip(x, y)]


def harbour_chart() -> bytes:
    """A vector chart of 420 x 297 mm: spot colours, soundings, a compass rose, a cut contour round it."""
    out = io.BytesIO()
    page = _canvas(out, 420, 297)
    page.setFillColor(_WATER)
    page.rect(8 * mm, 8 * mm, 404 * mm, 281 * mm, stroke=0, fill=1)
    for i, base in enumerate((0.60, 0.66, 0.73)):
        page.setFillColor(CMYKColor(0.30 - 0.09 * i, 0.04, 0.02, 0))
        _shore(page, _coast(220, 5, 404, 281, base))
    page.setFillColor(_LAND)
    shore = _coast(220, 5, 404, 281, 0.80)
    _shore(page, shore)
    page.setStrokeColor(_INK)
    page.setLineWidth(0.5)
    path = page.beginPath()
    path.moveTo((8 + shore[0][0]) * mm, (8 + shore[0][1]) * mm)
    for x, y in shore[1:]:
        path.lineTo((8 + x) * mm, (8 + y) * mm)
    page.drawPath(path)
    random = np.random.default_rng(4)
    page.setFillColor(_INK)
    page.setFont(SANS, 7)
    for _ in range(130):
        x, y = random.uniform(14, 400), random.uniform(14, 165)
        page.drawString(x * mm, y * mm, f"{random.integers(2, 48)}")
    page.setFont(SANS, 26)
    page.drawString(22 * mm, 262 * mm, "Lantern Sound and approaches")
    page.setFont(SANS, 10)
    page.drawString(22 * mm, 254 * mm, "Soundings in metres. Northlight Chart House, a made-up publisher.")
    _rose(page, 355, 60, 34)
    page.setStrokeColor(_CUT)
    page.setLineWidth(0.3)
    page.roundRect(4 * mm, 4 * mm, 412 * mm, 289 * mm, 12 * mm)
    page.showPage()
    page.save()
    return out.getvalue()


def _shore(page: Canvas, line: list[tuple[float, float]]) -> None:
    path = page.beginPath()
    path.moveTo(8 * mm, 289 * mm)
    for x, y in line:
        path.lineTo((8 + x) * mm, (8 + y) * mm)
    path.lineTo(412 * mm, 289 * mm)
    path.close()
    page.drawPath(path, stroke=0, fill=1)


def _rose(page: Canvas, x: float, y: float, radius: float) -> None:
    page.setStrokeColor(_ROSE)
    page.setFillColor(_ROSE)
    page.setLineWidth(0.4)
    page.circle(x * mm, y * mm, radius * mm)
    for i in range(36):
        angle = np.pi * i / 18
        inner = radius * (0.86 if i % 3 else 0.74)
        page.line(
            (x + inner * np.cos(angle)) * mm, (y + inner * np.sin(angle)) * mm,
            (x + radius * np.cos(angle)) * mm, (y + radius * np.sin(angle)) * mm,
        )  # fmt: skip
    path = page.beginPath()
    path.moveTo(x * mm, (y + 0.7 * radius) * mm)
    path.lineTo((x - 3) * mm, y * mm)
    path.lineTo((x + 3) * mm, y * mm)
    path.close()
    page.drawPath(path, stroke=0, fill=1)


def _srgb() -> bytes:
    return ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()


def book_cover() -> bytes:
    """A picture like a photograph, 1,920 x 960 pixels at 200 ppi, sRGB."""
    form = np.round(test_form(480) * 255.0).astype(np.uint8)
    random = np.random.default_rng(2)
    grain = form + random.normal(0.0, 1.6, form.shape)
    out = io.BytesIO()
    picture = Image.fromarray(np.clip(grain, 0, 255).astype(np.uint8))
    picture.save(out, "JPEG", quality=92, dpi=(200, 200), icc_profile=_srgb())
    return out.getvalue()


def deck_chart() -> bytes:
    """An untagged C M Y K picture, 1,200 x 900 at 150 ppi: tints, black lettering as lines, pure inks."""
    y, x = np.mgrid[0:900, 0:1200].astype(float)
    depth = 0.5 + 0.28 * np.sin(x / 190.0) * np.cos(y / 230.0) + 0.2 * np.sin((x + 2 * y) / 410.0)
    cmyk = np.stack([0.75 * depth, 0.22 * depth, 0.06 + 0 * depth, 0 * depth], axis=-1)
    lines = np.abs((depth * 12) % 1 - 0.5) < 0.02
    cmyk[lines] = (0, 0, 0, 1)
    for i, ink in enumerate(np.eye(4)):
        cmyk[840:880, 40 + 90 * i : 110 + 90 * i] = ink
    out = io.BytesIO()
    Image.fromarray(np.round(cmyk.clip(0, 1) * 255).astype(np.uint8), "CMYK").save(
        out, "TIFF", dpi=(150, 150), compression="tiff_lzw"
    )
    return out.getvalue()


def banner() -> bytes:
    """A banner of 6 x 0.8 m."""
    out = io.BytesIO()
    page = _canvas(out, 6000, 800)
    for i in range(60):
        page.setFillColor(Color(0.02, 0.12 + 0.5 * i / 60, 0.35 + 0.55 * i / 60))
        page.rect(0, 800 * i / 60 * mm, 6000 * mm, 800 / 59 * mm, stroke=0, fill=1)
    page.setFillColor(Color(1, 0.86, 0.2))
    page.circle(5200 * mm, 520 * mm, 160 * mm, stroke=0, fill=1)
    page.setFillColor(Color(1, 1, 1))
    page.setFont(SANS, 1150)
    page.drawString(260 * mm, 260 * mm, "Harbour days at Quay Street")
    page.showPage()
    page.save()
    return out.getvalue()


def tide_tables() -> bytes:
    """Two pages of black text and hairlines."""
    out = io.BytesIO()
    page = _canvas(out, 148, 210)
    random = np.random.default_rng(9)
    for month in ("May", "June"):
        page.setFillColor(_INK)
        page.setFont(SANS, 16)
        page.drawString(14 * mm, 190 * mm, f"Lantern Hill, {month}")
        page.setFont(SANS, 7.5)
        page.setLineWidth(0.1)
        for day in range(30):
            y = 180 - 5.4 * day
            times = "   ".join(
                f"{h:02d}{random.integers(0, 60):02d}  {random.uniform(0.4, 5.2):.1f}" for h in (2, 8, 14, 21)
            )
            page.drawString(14 * mm, y * mm, f"{day + 1:2d}   {times}")
            page.line(14 * mm, (y - 1.4) * mm, 134 * mm, (y - 1.4) * mm)
        page.showPage()
    page.save()
    return out.getvalue()


def sticker() -> bytes:
    """A round sticker of 64 mm on a square of 72, with the contour that is cut."""
    out = io.BytesIO()
    page = _canvas(out, 72, 72)
    page.setFillColor(_WATER)
    page.circle(36 * mm, 36 * mm, 34 * mm, stroke=0, fill=1)
    page.setFillColor(CMYKColor(0, 0.95, 0.9, 0.05))
    page.rect(30 * mm, 24 * mm, 12 * mm, 30 * mm, stroke=0, fill=1)
    page.circle(36 * mm, 56 * mm, 4 * mm, stroke=0, fill=1)
    page.setFillColor(CMYKColor(0, 0, 0, 0))
    page.rect(30 * mm, 36 * mm, 12 * mm, 6 * mm, stroke=0, fill=1)
    page.setFillColor(_INK)
    page.setFont(SANS, 9)
    page.drawCentredString(36 * mm, 14 * mm, "KEEP TO STARBOARD")
    page.setStrokeColor(_CUT)
    page.setLineWidth(0.25)
    page.circle(36 * mm, 36 * mm, 32 * mm, stroke=1, fill=0)
    page.save()
    return out.getvalue()


def signal_flags() -> bytes:
    """Black and white alone, 1 bit, 600 dpi."""
    y, x = np.mgrid[0:800, 0:1200]
    flags = (((x // 200) + (y // 200)) % 2 == 0) ^ (np.hypot(x % 200 - 100, y % 200 - 100) < 60)
    out = io.BytesIO()
    Image.fromarray((flags * 255).astype(np.uint8)).convert("1").save(
        out, "TIFF", dpi=(600, 600), compression="group4"
    )
    return out.getvalue()


def notice() -> bytes:
    """A notice as EPS."""
    return b"""%!PS-Adobe-3.0 EPSF-3.0
%%BoundingBox: 0 0 283 200
%%EndComments
0.1 0.55 0.75 setrgbcolor 0 0 283 200 rectfill
1 setgray 20 20 243 160 rectfill
0 setgray 3 setlinewidth 60 100 moveto 60 60 110 60 110 100 curveto 110 150 170 150 170 100 curveto
170 50 230 50 230 100 curveto stroke
%%EOF
"""


def soft_picture() -> bytes:
    """Far too coarse for what it shall be: 340 x 226 pixels at 40 ppi, no profile."""
    form = np.round(test_form(113)[:, :340] * 255.0).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(form).save(out, "JPEG", quality=55, dpi=(40, 40))
    return out.getvalue()


def heavy_ink() -> bytes:
    """Shadows of 390 %."""
    y, x = np.mgrid[0:500, 0:700] / 500.0
    dark = np.clip(1.15 - np.hypot(x - 0.9, y - 0.25), 0.2, 1.0)
    cmyk = np.stack([dark, dark * 0.98, dark * 0.95, dark * 0.97], axis=-1)
    out = io.BytesIO()
    Image.fromarray(np.round(cmyk * 255).astype(np.uint8), "CMYK").save(out, "TIFF", dpi=(200, 200))
    return out.getvalue()


def fonts_missing() -> bytes:
    """A plan whose lettering is in a font that is not in the file."""
    out = io.BytesIO()
    page = Canvas(out, pagesize=(210 * mm, 148 * mm), invariant=1)
    page.setFont("Times-Roman", 22)
    page.drawString(20 * mm, 110 * mm, "Plan of the inner harbour")
    page.setLineWidth(0.05)
    for i in range(24):
        page.line(20 * mm, (20 + 3.4 * i) * mm, 190 * mm, (20 + 3.4 * i) * mm)
    page.showPage()
    page.save()
    return out.getvalue()


def cut_off() -> bytes:
    """A PNG whose end was lost on the way."""
    form = np.round(test_form(96) * 255.0).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(form).save(out, "PNG")
    return out.getvalue()[: len(out.getvalue()) // 2]


def locked() -> bytes:
    """A PDF under a password."""
    import pikepdf

    out = io.BytesIO()
    with pikepdf.open(io.BytesIO(harbour_chart())) as pdf:
        pdf.save(out, encryption=pikepdf.Encryption(owner="lantern", user="lantern"))
    return out.getvalue()


def crew_shirt() -> bytes:
    """A chest print of 120 x 140 mm in six spot colours: flat areas, edges that meet, one scale of tints."""
    out = io.BytesIO()
    page = _canvas(out, 120, 140)

    def fill(name: str, density: float = 1.0) -> None:
        page.setFillColor(CMYKColorSep(*_SHIRT[name], spotName=name, density=density))

    fill("Underbase White")
    page.circle(60 * mm, 78 * mm, 56 * mm, stroke=0, fill=1)
    fill("Deep Water Blue")
    page.circle(60 * mm, 78 * mm, 54 * mm, stroke=0, fill=1)
    fill("Beacon Yellow")
    page.circle(60 * mm, 96 * mm, 22 * mm, stroke=0, fill=1)
    fill("Buoy Red")
    page.rect(48 * mm, 52 * mm, 24 * mm, 44 * mm, stroke=0, fill=1)
    fill("Underbase White")
    page.rect(48 * mm, 66 * mm, 24 * mm, 12 * mm, stroke=0, fill=1)
    for step in range(8):
        fill("Kelp Green", (step + 1) / 8.0)
        page.rect((24 + 9 * step) * mm, 36 * mm, 9 * mm, 10 * mm, stroke=0, fill=1)
    fill("Outline Black")
    page.setFont(SANS, 22)
    page.drawCentredString(60 * mm, 10 * mm, "LANTERN HILL")
    page.setStrokeColor(CMYKColorSep(*_SHIRT["Outline Black"], spotName="Outline Black", density=1.0))
    page.setLineWidth(1.2)
    page.circle(60 * mm, 78 * mm, 54 * mm, stroke=1, fill=0)
    page.save()
    return out.getvalue()
