"""A copy of a PDF for drawing: cut contours leave no mark, spot colours get names that are safe as files."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from greyanchor.core.artwork.pdf import name_text, open_pdf
from greyanchor.core.artwork.pdf_inspection import CUTS, spot_name


def rewrite(path: Path, target: Path, names: Mapping[str, str] | None = None) -> bool:
    """Write a copy whose cut contours leave no mark and whose spot colours are called as `names` says; False,
    and no copy, where nothing is to be changed.

    The colorant None prints nothing, whatever is drawn in it (ISO 32000-2, 8.6.6.4).
    """
    import pikepdf

    with open_pdf(path) as pdf:
        found = False
        for space in _spaces(pdf):
            if name_text(space[0]) == "Separation":
                new = "None" if CUTS.search(spot_name(space[1])) else (names or {}).get(spot_name(space[1]))
                if new:
                    space[1] = pikepdf.Name(f"/{new}")
                    found = True
            else:
                for place, ink in enumerate(list(space[1])):
                    new = "None" if CUTS.search(spot_name(ink)) else (names or {}).get(spot_name(ink))
                    if new:
                        space[1][place] = pikepdf.Name(f"/{new}")
                        found = True
        if found:
            pdf.save(target)
        return found


def _spaces(pdf: Any) -> Iterator[Any]:
    """Every colour space of spot colours, by itself or inside another object."""
    import pikepdf

    waiting: list[Any] = list(pdf.objects)
    while waiting:
        item = waiting.pop()
        if isinstance(item, pikepdf.Array):
            if len(item) >= 4 and name_text(item[0]) in ("Separation", "DeviceN"):
                yield item
            waiting += [i for i in item if _direct(i)]
        elif isinstance(item, pikepdf.Dictionary | pikepdf.Stream):
            held = item.stream_dict if isinstance(item, pikepdf.Stream) else item
            waiting += [v for v in held.as_dict().values() if _direct(v)]


def _direct(item: Any) -> bool:
    """Whether an object lies inside its parent; others are met by themselves."""
    import pikepdf

    is_holder = isinstance(item, pikepdf.Array | pikepdf.Dictionary)
    return is_holder and not item.is_indirect
