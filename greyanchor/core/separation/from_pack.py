"""A print mode out of a pack, as separation needs it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.light_split import split_from
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, icc
from greyanchor.core.packs.archive import Archive
from greyanchor.core.packs.manifest import read_pack
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.separation.link import ModeInks


@dataclass(frozen=True)
class PackedMode:
    """A mode with what its prints are made for."""

    name: str
    edition: str
    environment: PrintEnvironment
    inks: ModeInks


def read_mode(path: str | Path, name: str = "") -> PackedMode:
    """The mode of a pack, or the one called `name` where it holds several.

    Raises `BadInput` for a pack that is not sound, for an unclear choice, and for a mode without a profile.
    """
    path = Path(path)
    with Archive(path, path.name) as archive:
        modes = read_pack(archive).modes
        chosen = [m for m in modes if m["name"] == name] if name else modes
        if len(chosen) != 1:
            known = ", ".join(m["name"] for m in modes[:6])
            raise BadInput(f"it holds {len(modes)} print modes; name one of them: {known}", path.name)
        mode = chosen[0]
        if not mode.get("profile"):
            raise BadInput(
                f"the mode {mode['name']} has no profile, so nothing can be printed through it", path.name
            )
        files = {key: archive.read(mode[key]) for key in ("profile", "curves") if mode.get(key)}
    profile = icc.loads(files["profile"], mode["profile"])
    curves = CurveSet.from_csv(cgats.decode(files["curves"]), mode["curves"]) if "curves" in files else None
    return PackedMode(
        mode["name"],
        str(mode.get("edition") or ""),
        PrintEnvironment(**mode["environment"]),
        mode_inks(profile, curves, mode.get("splits", []), mode.get("limits", {}), mode.get("total_ink")),
    )


def mode_inks(
    profile: icc.IccProfile,
    curves: CurveSet | None,
    splits: list[dict[str, Any]],
    limits: dict[str, float],
    total: float | None,
) -> ModeInks:
    """What a mode prints, from what is kept of it; limits and total in percent.

    Curves of light inks are those of their parents: the split follows them. A mode without curves prints
    straight up to its limits.
    """
    channels = profile.inks
    if curves is not None and curves.channels != channels:
        if not set(channels) <= set(curves.channels):
            raise BadInput(
                f"the curves are of {' '.join(curves.channels)}, the profile prints {' '.join(channels)}"
            )
        curves = CurveSet(channels, curves.outputs[[curves.channels.index(c) for c in channels]])
    if curves is None and any(limits.get(c, 100.0) < 100.0 for c in channels):
        curves = CurveSet.straight({c: limits.get(c, 100.0) / 100.0 for c in channels})
    shared = tuple(split_from(s) for s in splits)
    return ModeInks(profile, curves, shared, total / 100.0 if total else None)
