"""Writing packs: print modes as they are, or as they were in an edition."""

from __future__ import annotations

import io
import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from django.utils import timezone

from greyanchor.accounts.people import named
from greyanchor.core.errors import BadInput
from greyanchor.core.packs import Progress, dump_pack, write_archive
from greyanchor.library.models import Edition, KeptText, MediaPreset, PrintMode
from greyanchor.library.records.effective_settings import in_force, in_force_facts
from greyanchor.profiles.models import Profile

#: most modes of one pack
MOST_MODES = 2000
SOFTWARE = "Grey Anchor"
_FACTS = (
    "title",
    "version",
    "report",
    "settings",
    "neutral",
    "boundary",
    "lightest",
    "darkest",
    "made_from",
    "channels",
)


@dataclass(frozen=True)
class Label:
    """What a pack calls itself; `key` and `version` are for catalogues."""

    title: str
    maker: str = ""
    key: str = ""
    version: str = "1"
    note: str = ""


def pack_modes(
    pks: Iterable[int], label: Label, target: Path | io.BytesIO, report: Progress | None = None
) -> int:
    """Write a pack of modes as they are now; gives their number. `report` hears of each file."""
    modes = list(_ready().filter(pk__in=list(pks)).order_by("name"))
    refuse_too_many(len(modes))
    files: dict[str, Callable[[], bytes]] = {}
    items = [_mode(m, files) for m in modes]
    _write(modes, items, label, files, target, report=report)
    return len(modes)


def pack_edition(edition: Edition, target: Path | io.BytesIO) -> None:
    """Write a pack of one mode as it was when it was released: its curves, limits, profile and settings of
    that day.
    """
    mode = _ready().get(pk=edition.mode_id)
    files: dict[str, Callable[[], bytes]] = {}
    c = edition.content
    facts = {
        "name": c["name"],
        "printer": mode.printer.model,
        "ink_set": mode.ink_set.name,
        "media": mode.media.name,
        "preset": c.get("preset"),
        "environment": c["environment"],
        "limits": c["limits"],
        "total_ink": c["total_ink"],
        "splits": c["splits"],
        "planes": c.get("planes", {}),
        "film": c.get("film", {}),
        "recipes": c.get("recipes", {}),
        "inherited": c["inherited"],
        "handling": c["handling"],
        "handling_in_force": c["in_force"],
        "note": edition.note,
        "edition": edition.number,
        "released_at": edition.released_at.isoformat(),
        "released_by": named(edition.released_by) if edition.released_by else None,
        "calibrated_at": c.get("calibrated_at"),
        "verdict": c.get("verdict", ""),
        "check_summary": c.get("check_summary", ""),
        **_files(files, edition.profile_id, edition.curve_set, edition.readings),
    }
    presets = (
        [
            {
                "name": c["preset"],
                "media": mode.media.name,
                "printer": mode.printer.model,
                "handling": c.get("preset_handling", {}),
            }
        ]
        if c.get("preset")
        else []
    )
    title = f"{c['name']}, edition {edition.number}"
    _write([mode], [facts], Label(title), files, target, presets, c.get("class_handling"))


def _ready() -> Any:
    return PrintMode.objects.select_related(
        "printer", "ink_set", "media__media_class", "preset__media", "curve_set", "released_by"
    ).defer("curve_set__text")


def refuse_too_many(count: int) -> None:
    """`BadInput` for a pack of nothing, or of more modes than one pack may hold."""
    if not count:
        raise BadInput("there is no print mode to pack")
    if count > MOST_MODES:
        raise BadInput(f"{count} print modes are too many for one pack; narrow them to {MOST_MODES}")


def _mode(mode: PrintMode, files: dict[str, Callable[[], bytes]]) -> dict[str, Any]:
    released = mode.state == PrintMode.State.RELEASED
    last = mode.editions.first() if released else None
    return {
        "name": mode.name,
        "printer": mode.printer.model,
        "ink_set": mode.ink_set.name,
        "media": mode.media.name,
        "preset": mode.preset.name if mode.preset else None,
        "environment": mode.environment,
        "limits": mode.limits,
        "total_ink": mode.total_ink,
        "splits": mode.splits,
        "planes": mode.planes,
        "film": mode.film,
        "recipes": mode.recipes,
        "inherited": mode.inherited,
        "handling": mode.handling,
        "handling_in_force": in_force_facts(in_force(mode)),
        "note": mode.note,
        "edition": last.number if last else None,
        "released_at": mode.released_at.isoformat() if released and mode.released_at else None,
        "released_by": named(mode.released_by) if released and mode.released_by else None,
        "calibrated_at": mode.calibrated_at.isoformat() if mode.calibrated_at else None,
        "verdict": mode.last_verdict if mode.last_verdict in ("pass", "fail") else "",
        "check_summary": mode.last_check_summary,
        **_files(files, mode.profile_id, mode.curve_set, mode.readings),
    }


def _files(
    files: dict[str, Callable[[], bytes]],
    profile: int | None,
    curves: KeptText | None,
    readings: list[dict[str, str]],
) -> dict[str, Any]:
    """Name the files of a mode, each once whatever number of modes share it."""
    facts: dict[str, Any] = {"profile": None, "profile_facts": None, "curves": None, "readings": []}
    if profile is not None:
        sha, title = Profile.objects.values_list("sha256", "title").get(pk=profile)
        facts |= {
            "profile": f"profiles/{sha[:20]}.icc",
            "profile_facts": f"profiles/{sha[:20]}.json",
            "profile_title": title,
        }
        files[facts["profile"]] = partial(_profile_bytes, profile)
        files[facts["profile_facts"]] = partial(_profile_facts, profile)
    if curves is not None:
        facts["curves"] = f"curves/{curves.sha256[:20]}.csv"
        files[facts["curves"]] = partial(_text, curves.sha256)
    for reading in readings:
        name = f"readings/{reading['sha256'][:20]}.txt"
        files[name] = partial(_text, reading["sha256"])
        facts["readings"].append({"file": name, "purpose": reading["purpose"]})
    return facts


def _profile_bytes(pk: int) -> bytes:
    return bytes(Profile.objects.values_list("data", flat=True).get(pk=pk))


def _profile_facts(pk: int) -> bytes:
    found = Profile.objects.defer("data", "fitted").get(pk=pk)
    return json.dumps({name: getattr(found, name) for name in _FACTS}, sort_keys=True).encode()


def _text(sha256: str) -> bytes:
    return KeptText.objects.get(sha256=sha256).text.encode()


def _write(
    modes: list[PrintMode],
    items: list[dict[str, Any]],
    label: Label,
    files: dict[str, Callable[[], bytes]],
    target: Path | io.BytesIO,
    presets: list[dict[str, Any]] | None = None,
    class_handling: dict[str, float] | None = None,
    report: Progress | None = None,
) -> None:
    media = {m.media_id: m.media for m in modes}
    classes = {m.media_class_id: m.media_class for m in media.values()}
    if presets is None:
        held: dict[int, MediaPreset] = {m.preset_id: m.preset for m in modes if m.preset}
        media |= {p.media_id: p.media for p in held.values()}
        classes |= {p.media.media_class_id: p.media.media_class for p in held.values()}
        presets = [
            {
                "name": p.name,
                "media": p.media.name,
                "printer": p.printer_model,
                "handling": p.handling,
                "notes": p.notes,
            }
            for p in held.values()
        ]
    manifest = {
        "title": label.title[:160],
        "maker": label.maker[:120],
        "key": label.key,
        "version": label.version,
        "note": label.note,
        "made_at": timezone.now().isoformat(timespec="seconds"),
        "made_with": SOFTWARE,
        "printers": list(
            {
                m.printer.model: {"model": m.printer.model, "abilities": m.printer.abilities} for m in modes
            }.values()
        ),
        "ink_sets": [
            {"name": i.name, "channels": i.channels, "light": i.light, "facts": i.facts, "kind": i.kind}
            for i in {m.ink_set_id: m.ink_set for m in modes}.values()
        ],
        "media_classes": [
            {
                "name": c.name,
                "family": c.family,
                "handling": c.handling if class_handling is None else class_handling,
                "reasons": c.reasons,
            }
            for c in classes.values()
        ],
        "media": [
            {
                "name": m.name,
                "media_class": m.media_class.name,
                "maker": m.maker,
                "weight": m.weight,
                "thickness": m.thickness,
                "width_mm": m.width_mm,
                "brightener": m.brightener,
                "travels_backwards": m.travels_backwards,
                "unreadable": m.unreadable,
                "dry_minutes": m.dry_minutes,
                "notes": m.notes,
            }
            for m in media.values()
        ],
        "presets": presets,
        "modes": items,
    }
    write_archive(target, dump_pack(manifest, files, report))
