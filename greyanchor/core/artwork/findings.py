"""What is found in artwork, in words: what would go wrong, where, and what to do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

#: from what keeps a file from printing to what is only good to know
LEVELS = ("stop", "warn", "know")


@dataclass(frozen=True)
class Finding:
    """One thing about a file.

    Attributes
    ----------
    level
        ``stop``, ``warn`` or ``know``.
    text
        What it is, a sentence without its full stop.
    where
        Page and place; empty where it is of the whole file.
    advice
        What to do about it; empty where nothing needs to be done.
    """

    level: str
    text: str
    where: str = ""
    advice: str = ""

    def facts(self) -> dict[str, str]:
        """Plain values for JSON."""
        return asdict(self)


def ranked(findings: list[Finding]) -> list[Finding]:
    """Each once, those that stop first."""
    return sorted(dict.fromkeys(findings), key=lambda f: LEVELS.index(f.level))


@dataclass(frozen=True)
class PageFacts:
    """A page of artwork.

    Attributes
    ----------
    width_mm, height_mm
        As it is seen, trimmed.
    colours
        Colour spaces, in words.
    spots
        Spot colours and the colour that stands in for each, Lab-like words or values as the file has them.
    contours
        Cut contours: polylines in shares of the page, by the name of their spot colour.
    pictures
        Rectangles in shares of the page with their effective resolution: left, top, width, height, ppi.
    """

    width_mm: float
    height_mm: float
    colours: tuple[str, ...] = ()
    spots: Mapping[str, Any] | None = None
    contours: Mapping[str, list[list[tuple[float, float]]]] | None = None
    pictures: tuple[tuple[float, float, float, float, float], ...] = ()

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "width_mm": round(self.width_mm, 2),
            "height_mm": round(self.height_mm, 2),
            "colours": list(self.colours),
            "spots": dict(self.spots or {}),
            "contours": dict(self.contours or {}),
            "pictures": [[round(v, 5) for v in p] for p in self.pictures],
        }


@dataclass(frozen=True)
class ArtworkFacts:
    """All that is known of a file."""

    kind: str
    pages: tuple[PageFacts, ...]
    findings: tuple[Finding, ...]

    def facts(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "kind": self.kind,
            "pages": [p.facts() for p in self.pages],
            "findings": [f.facts() for f in self.findings],
        }
