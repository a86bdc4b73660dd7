"""Tone curves per channel: monotone, 1,024 inputs, 0 -> 0 and 100 -> limit."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.files import read_limited

INPUTS = 1024


@dataclass(frozen=True)
class CurveSet:
    """Correction curves of all channels.

    Attributes
    ----------
    channels
        Channel names, c of them.
    outputs
        Raw device value (c, 1024) for evenly spaced inputs 0..1; never falling, from 0 to the limit.
    """

    channels: tuple[str, ...]
    outputs: Array

    def __post_init__(self) -> None:
        if self.outputs.shape != (len(self.channels), INPUTS):
            raise BadInput(f"curves have shape {self.outputs.shape}, expected {(len(self.channels), INPUTS)}")
        if not np.isfinite(self.outputs).all() or self.outputs.min() < 0 or self.outputs.max() > 1 + 1e-9:
            raise BadInput("a curve leaves the range 0..100 %")
        falling = np.diff(self.outputs, axis=1) < -1e-12
        if falling.any():
            raise BadInput(f"the curve of {self.channels[int(np.argmax(falling.any(axis=1)))]} reverses")

    @property
    def limits(self) -> dict[str, float]:
        """Raw device value that each channel reaches at 100 %."""
        return {c: float(self.outputs[i, -1]) for i, c in enumerate(self.channels)}

    def apply(self, device: npt.ArrayLike) -> Array:
        """Raw device values (n, c) for linearized ones (n, c), fractions; 16-bit steps."""
        values = np.clip(np.asarray(device, dtype=float), 0.0, 1.0)
        grid = np.linspace(0.0, 1.0, INPUTS)
        out = np.column_stack(
            [np.interp(values[:, i], grid, self.outputs[i]) for i in range(len(self.channels))]
        )
        return np.round(out * 65535.0) / 65535.0

    def to_csv(self) -> str:
        """``channel,input,output`` in percent, 1,024 inputs a channel."""
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(["channel", "input", "output"])
        grid = np.linspace(0.0, 100.0, INPUTS)
        for i, channel in enumerate(self.channels):
            writer.writerows([channel, f"{x:.4f}", f"{100 * y:.4f}"] for x, y in zip(grid, self.outputs[i]))
        return out.getvalue()

    @classmethod
    def from_csv(cls, text: str, source: str = "curves") -> CurveSet:
        """Read what `to_csv` writes; any number of inputs from 2 up is taken and interpolated.

        Raises `BadInput` with the line for values outside 0..100 % and for text without a curve.
        """
        numbers, channels, flat = _columns(text, source)
        values = np.array(flat).reshape(2, -1).T
        inside = ((values >= 0) & (values <= 100)).all(axis=1)  # no number and no end lie outside as well
        if not inside.all():
            bad = int(np.argmin(inside))
            raise BadInput(
                f"{values[bad, 0]:g},{values[bad, 1]:g} lies outside 0..100 %", source, numbers[bad]
            )
        places: dict[str, list[int]] = {}
        for i, channel in enumerate(channels):
            places.setdefault(channel.strip(), []).append(i)
        if not places or any(len(p) < 2 for p in places.values()):
            raise BadInput("no curve with at least two points was found", source)
        return cls._from_points({c: values[p] for c, p in places.items()}, source)

    @classmethod
    def _from_points(cls, points: Mapping[str, Array], source: str) -> CurveSet:
        """Curves through points (n, 2) of input and output in percent."""
        grid = np.linspace(0.0, 100.0, INPUTS)
        rows = []
        for pairs in points.values():
            table = pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))]
            rows.append(np.interp(grid, table[:, 0], table[:, 1]) / 100.0)
        try:
            return cls(tuple(points), np.array(rows))
        except BadInput as error:
            raise error.at(source) from None

    def to_json(self) -> str:
        """``{"curves": {channel: {"input": [..], "output": [..]}}}``, percent, 1,024 inputs a channel."""
        grid = [round(float(x), 4) for x in np.linspace(0.0, 100.0, INPUTS)]
        curves = {
            c: {"input": grid, "output": [round(100.0 * float(y), 4) for y in self.outputs[i]]}
            for i, c in enumerate(self.channels)
        }
        return json.dumps({"curves": curves})

    @classmethod
    def from_json(cls, text: str, source: str = "curves") -> CurveSet:
        """Read what `to_json` writes; any number of inputs from 2 up is taken and interpolated.

        Raises `BadInput` for what is no JSON of curves, with the line, and for values outside 0..100 %.
        """
        try:
            found = json.loads(text)["curves"]
            points = {
                str(c): [(float(x), float(y)) for x, y in zip(v["input"], v["output"], strict=True)]
                for c, v in found.items()
            }
        except json.JSONDecodeError as error:
            raise BadInput(f"this is not JSON: {error.msg}", source, error.lineno) from None
        except (KeyError, TypeError, ValueError, AttributeError):
            raise BadInput(
                'expected {"curves": {channel: {"input": [..], "output": [..]}}} with numbers in percent',
                source,
            ) from None
        if not points or any(len(p) < 2 for p in points.values()):
            raise BadInput("no curve with at least two points was found", source)
        for channel, pairs in points.items():
            if not all(0 <= v <= 100 for p in pairs for v in p):
                raise BadInput(f"the curve of {channel} leaves 0..100 %", source)
        return cls._from_points({c: np.array(p) for c, p in points.items()}, source)

    @classmethod
    def read(cls, path: str | Path) -> CurveSet:
        """A curve file, CSV or JSON."""
        text = read_limited(path, 8 * 2**20).decode("utf-8-sig", "replace")
        name = Path(path).name
        return cls.from_json(text, name) if text.lstrip().startswith("{") else cls.from_csv(text, name)

    @classmethod
    def straight(cls, limits: dict[str, float]) -> CurveSet:
        """No correction but the limits (fractions)."""
        grid = np.linspace(0.0, 1.0, INPUTS)
        return cls(tuple(limits), np.array([grid * limit for limit in limits.values()]))


def _columns(text: str, source: str) -> tuple[Sequence[int], list[str], list[float]]:
    """Line numbers, channels, and all inputs followed by all outputs of a curve file."""
    lines = text.split("\n")
    first = 1 if lines[0].lower().startswith("channel,") else 0
    last = len(lines) - 1 if not lines[-1] else len(lines)
    cells = ",".join(lines[first:last]).split(",")
    if '"' not in text and len(cells) == 3 * (last - first):  # as this program writes it, and most others
        try:
            return (
                range(first + 1, last + 1),
                cells[::3],
                [*map(float, cells[1::3]), *map(float, cells[2::3])],
            )
        except ValueError:
            pass  # the long way finds the line
    try:
        rows = [
            (number, row)
            for number, row in enumerate(csv.reader(text.splitlines()), start=1)
            if row and not (number == 1 and row[0].strip().lower() == "channel")
        ]
    except csv.Error as error:
        raise BadInput(f"the lines cannot be read ({error})", source) from None
    pairs = [_pair(row, source, number) for number, row in rows]
    return [n for n, _ in rows], [r[0] for _, r in rows], [*(x for x, _ in pairs), *(y for _, y in pairs)]


def _pair(row: list[str], source: str, number: int) -> tuple[float, float]:
    try:
        return float(row[1]), float(row[2])
    except (IndexError, ValueError):
        raise BadInput("expected channel,input,output with numbers in percent", source, number) from None
