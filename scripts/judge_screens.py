"""Draw the pictures and print the table of docs/halftones.md."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from greyanchor.core.separation.halftone.judging import granularity, radial_spectrum
from greyanchor.core.separation.halftone.screens import Screen, parse_screen

ROOT = Path(__file__).resolve().parents[1]
SCREENS = (
    "blue-noise", "diffusion", "am:lpi=75,angle=45,dot=round", "am:lpi=75,angle=45,dot=ellipse",
    "am:lpi=75,angle=45,dot=line", "hybrid:lpi=100,angle=45", "blue-noise:drops=3",
)  # fmt: skip
TONES = (3, 12, 30, 50, 75)
_SIDE, _CROP, _SCALE = 768, 72, 3
_GREYS = ("#000", "#555", "#999")


def field(text: str, percent: float, resolution: float) -> np.ndarray:
    """Ink (512, 512), 0 to 1, of a flat field, away from the edges of its sheet."""
    screen = Screen(parse_screen(text), resolution, _SIDE)
    levels = screen.levels(np.full((_SIDE, _SIDE), round(percent * 655.35), dtype=np.uint16))
    return np.array([0.0, *screen.volumes])[levels][256:, 256:]


def picture() -> Image.Image:
    """Each screen in a row, tones from left to right, at 600 dpi, three pixels a dot."""
    gap, side = 9, _CROP * _SCALE
    sheet = np.full((len(SCREENS) * (side + gap), len(TONES) * (side + gap)), 255, dtype=np.uint8)
    for i, text in enumerate(SCREENS):
        for j, percent in enumerate(TONES):
            dots = 255 - np.round(255 * field(text, percent, 600)[:_CROP, :_CROP]).astype(np.uint8)
            place = np.s_[
                i * (side + gap) : i * (side + gap) + side, j * (side + gap) : j * (side + gap) + side
            ]
            sheet[place] = dots.repeat(_SCALE, axis=0).repeat(_SCALE, axis=1)
    return Image.fromarray(sheet).quantize(8)


def spectra() -> str:
    """Radially averaged power at 12 % of ink, as SVG."""
    wide, tall, left, top = 640, 320, 60, 20
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide + 240} {tall + 70}" '
        'font-family="sans-serif" font-size="13">',
        f'<rect x="{left}" y="{top}" width="{wide}" height="{tall}" fill="none" stroke="#999"/>',
    ]
    for power in (0.01, 0.1, 1.0, 10.0):
        y = top + tall * (1.0 - (np.log10(power) + 2.5) / 4.5)
        lines.append(f'<line x1="{left}" x2="{left + wide}" y1="{y:.1f}" y2="{y:.1f}" stroke="#ddd"/>')
        lines.append(f'<text x="{left - 8}" y="{y + 4:.1f}" text-anchor="end">{power:g}</text>')
    for frequency in (0.0, 0.125, 0.25, 0.375, 0.5):
        x = left + wide * frequency / 0.5
        lines.append(f'<text x="{x:.1f}" y="{top + tall + 18}" text-anchor="middle">{frequency:g}</text>')
    lines.append(
        f'<text x="{left + wide / 2}" y="{top + tall + 40}" text-anchor="middle">cycles a dot, 12 % of ink; '
        "power, white noise is 1</text>"
    )
    for i, text in enumerate(("blue-noise", "diffusion", "hybrid:lpi=100,angle=45")):
        frequency, power = radial_spectrum(field(text, 12, 600))
        smooth = np.convolve(power, np.ones(3) / 3, mode="same")[1:-1]
        y = top + tall * (1.0 - (np.clip(np.log10(np.maximum(smooth, 1e-9)), -2.5, 2.0) + 2.5) / 4.5)
        points = " ".join(f"{left + wide * f / 0.5:.1f},{v:.1f}" for f, v in zip(frequency[1:-1], y))
        dash = ("", "7 4", "2 3")[i]
        lines.append(
            f'<polyline points="{points}" fill="none" stroke="{_GREYS[i]}" stroke-width="1.6" '
            f'stroke-dasharray="{dash}"/>'
        )
        row = top + 20 + 24 * i
        lines.append(
            f'<line x1="{left + wide + 16}" x2="{left + wide + 52}" y1="{row}" y2="{row}" '
            f'stroke="{_GREYS[i]}" stroke-width="1.6" stroke-dasharray="{dash}"/>'
            f'<text x="{left + wide + 60}" y="{row + 4}">{text.partition(":")[0]}</text>'
        )
    return "\n".join([*lines, "</svg>", ""])


def main() -> None:
    """Write the pictures, print the table."""
    folder = ROOT / "docs" / "pictures"
    folder.mkdir(exist_ok=True)
    picture().save(folder / "screens.png", optimize=True)
    (folder / "screens-spectra.svg").write_text(spectra())
    for resolution in (600, 1200):
        print(f"| at {resolution} dpi | " + " | ".join(f"{t} %" for t in TONES) + " |")
        for text in SCREENS:
            seen = [granularity(field(text, t, resolution), resolution) for t in TONES]
            print(f"| `{text}` | " + " | ".join(f"{v:.2f}" for v in seen) + " |")


if __name__ == "__main__":
    main()
