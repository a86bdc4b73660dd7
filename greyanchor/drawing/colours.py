"""Colours of data on the page. The interface itself has none."""

from __future__ import annotations

import numpy as np

from greyanchor.core.colour.colorimetry import Array, lab_to_srgb, spectra_to_lab
from greyanchor.core.printing.inks import Ink

CHANNELS = {
    "C": "#0086b3",
    "M": "#c2187e",
    "Y": "#b39000",
    "K": "#111111",
    "LC": "#5fb3cf",
    "LM": "#d77cb0",
    "O": "#d9660a",
    "G": "#1f8a3b",
    "V": "#6a3fb0",
    "R": "#c22a22",
    "B": "#2b4fc0",
    "MC": "#2f9dc4",
    "MM": "#cc4a97",
    "LK": "#8a8a8a",
    "MK": "#3a3a3a",
    "W": "#9a9a9a",
    "GREY": "#111111",
}


def channel_colour(name: str) -> str:
    """The line colour of a channel; dark grey for one without its own."""
    return CHANNELS.get(name, "#444444")


def ink_colour(ink: Ink) -> str:
    """What an ink's solid looks like: from its spectrum, else by its name."""
    if ink.spectrum:
        return hex_colours(spectra_to_lab(np.array([ink.spectrum])))[0]
    return channel_colour(ink.channel)


def hex_colours(lab: Array) -> list[str]:
    """CSS colours of Lab (n, 3)."""
    values = np.round(lab_to_srgb(lab) * 255.0).astype(int)
    return [f"#{r:02x}{g:02x}{b:02x}" for r, g, b in values]
