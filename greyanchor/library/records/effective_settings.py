"""Handling settings of presets and modes: what is in force, and who holds it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from greyanchor.core.printing.handling import SETTINGS, Held, Layer, resolve
from greyanchor.core.printing.readiness import TASKS
from greyanchor.library.models import Media, MediaPreset, Printer, PrintMode, ReadinessRun

#: handling settings that are frozen into a print environment, by their name there
FROZEN = {"heat": "heat_on", "vacuum": "vacuum"}


def measured(printer: Printer, media: Media | None) -> dict[str, tuple[float, ReadinessRun]]:
    """Values found by readying the machine, newest for this printer and media, by setting."""
    out: dict[str, tuple[float, ReadinessRun]] = {}
    if media is None:
        return out
    done = printer.readiness_runs.filter(media=media, done_at__isnull=False, value__isnull=False, good=True)
    for record in done.order_by("-done_at", "-pk"):
        key = TASKS[record.task].setting
        if key and key not in out:
            out[key] = (record.value, record)  # type: ignore[assignment]
    return out


def layers_of(
    printer: Printer,
    media: Media | None,
    preset: MediaPreset | None = None,
    mode: Mapping[str, float] | None = None,
    mode_name: str = "",
) -> list[Layer]:
    """What each source holds for a media on a printer."""
    found = measured(printer, media)
    reasons = {
        k: f"found on this media, {r.done_at:%-d %B %Y}, {r.get_how_display()}" for k, (_, r) in found.items()
    }
    layers = [Layer("printer", printer.name, {k: v for k, (v, _) in found.items()}, reasons)]
    if media is not None:
        group = media.media_class
        layers.append(Layer("class", group.name, group.handling, group.reasons))
    if preset is not None:
        layers.append(Layer("preset", preset.name, preset.handling, {}))
    if mode:
        layers.append(Layer("mode", mode_name, mode, {}))
    return layers


def in_force(mode: PrintMode) -> dict[str, Held]:
    """The handling settings a mode prints with."""
    layers = layers_of(mode.printer, mode.media, mode.preset, mode.handling, mode.name)
    return resolve(mode.printer.ability_map, layers)


def preset_in_force(preset: MediaPreset, printer: Printer) -> dict[str, Held]:
    """The handling settings a preset comes to on a printer of its model."""
    return resolve(printer.ability_map, layers_of(printer, preset.media, preset))


def preset_for(printer: Printer, media: Media) -> MediaPreset | None:
    """The preset of a media on a printer's model; the oldest where there are several."""
    return MediaPreset.objects.filter(media=media, printer_model=printer.model).order_by("pk").first()


def start_values(printer: Printer, media: Media) -> dict[str, Held]:
    """What a new build on a media begins with."""
    return resolve(printer.ability_map, layers_of(printer, media, preset_for(printer, media)))


def own_values(printer: Printer, media: Media, chosen: Mapping[str, float]) -> dict[str, float]:
    """Those of `chosen` (by name in the environment) that the mode must hold itself: they differ from its
    sources.
    """
    held = start_values(printer, media)
    out = {}
    for name, key in FROZEN.items():
        if key in held and name in chosen and abs(held[key].value - float(chosen[name])) > 1e-6:
            out[key] = float(chosen[name])
    return out


def moved_since_built(mode: PrintMode, now: Mapping[str, Held]) -> list[tuple[str, str, str]]:
    """Frozen settings whose value in force, of `now`, is no longer that of the environment: (title, then,
    now).
    """
    out = []
    for name, key in FROZEN.items():
        then = mode.environment.get(name)
        if then is not None and key in now and abs(float(then) - now[key].value) > 1e-6:
            out.append((SETTINGS[key].title, SETTINGS[key].with_unit(float(then)), now[key].text))
    return out


def in_force_facts(held: Mapping[str, Held]) -> dict[str, dict[str, Any]]:
    """Values in force as plain facts, for editions and packs."""
    return {k: {"value": h.value, "unit": h.setting.unit, "source": h.source} for k, h in held.items()}
