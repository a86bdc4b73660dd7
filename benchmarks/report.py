"""Figures beside their goals, and which were missed."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import Array

#: names of the figures above their goals, in this process
missed: list[str] = []


def report(name: str, value: float, goal: float, unit: str) -> None:
    """One line; anything above its goal is remembered."""
    met = value <= goal
    if not met:
        missed.append(name)
    print(f"  {name:<58}{value:>9.3f} {unit:<6} goal {goal:g}   {'met' if met else 'MISSED'}", flush=True)


def spread(name: str, error: Array, mean: float, p95: float, most: float) -> None:
    """Mean, 95th percentile and largest of dE00."""
    report(f"{name}, mean", float(error.mean()), mean, "dE00")
    report(f"{name}, 95th percentile", float(np.percentile(error, 95)), p95, "dE00")
    report(f"{name}, largest", float(error.max()), most, "dE00")
