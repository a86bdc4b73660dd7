"""Bring older data along: curves and limits as objects, presets for what media held, editions, roles."""

import hashlib
import json

from django.db import migrations


def guess_family(name):
    """As `core.printing.families` guessed when this migration was written."""
    text = name.casefold()
    for words, key in (
        (("mesh",), "mesh"),
        (("backlit", "lightbox"), "backlit"),
        (("banner",), "banner"),
        (("canvas",), "canvas"),
        (("textile", "cloth", "fabric", "flag"), "textile"),
        (("synthetic",), "synthetic"),
        (("film", "vinyl", "foil"), "film"),
        (("uncoated", "cotton", "bond"), "uncoated-paper"),
        (("coated", "proof", "photo", "gloss", "satin", "matt"), "coated-paper"),
    ):
        if any(word in text for word in words):
            return key
    return ""


def forwards(apps, schema_editor):
    get = lambda name: apps.get_model("library", name)
    for group in get("MediaClass").objects.all():
        group.family = guess_family(group.name)
        group.save(update_fields=["family"])
    for printer in get("Printer").objects.all():
        printer.abilities = {
            "vacuum": {"low": 0, "high": 100, "step": 1, "usual": 50},
            "heat_on": {"low": 15, "high": 90, "step": 1, "usual": 36},
        }
        printer.save(update_fields=["abilities"])
    _modes(get)
    leads, _ = apps.get_model("auth", "Group").objects.get_or_create(name="lead")
    for user in apps.get_model("auth", "User").objects.filter(groups=None):
        user.groups.add(leads)  # whoever had an account could do everything until now


def _modes(get):
    made_by = {}
    for row in get("HistoricalPrintMode").objects.order_by("history_date").values("id", "history_user_id"):
        made_by.setdefault(row["id"], row["history_user_id"])
    for mode in get("PrintMode").objects.select_related("printer", "media"):
        _mode(get, mode, made_by.get(mode.pk))
        for past in get("HistoricalPrintMode").objects.filter(id=mode.pk).iterator(50):
            _limits(
                get, past
            )  # so that a version from before can be had again; its curves were not kept then
            past.preset_id, past.handling = mode.preset_id, mode.handling
            if past.version == mode.version:
                past.curve_set_id, past.calibrated_at = mode.curve_set_id, mode.calibrated_at
            past.save()


def _limits(get, mode):
    """Limits of a mode, or of an entry of its history, as an object."""
    if mode.limits:
        total = None if mode.total_ink is None else round(mode.total_ink, 2)
        told = [sorted((c, round(v, 2)) for c, v in mode.limits.items()), total]
        made = get("LimitSet").objects.get_or_create(
            sha256=hashlib.sha256(json.dumps(told).encode()).hexdigest(),
            defaults={"limits": mode.limits, "total_ink": mode.total_ink},
        )
        mode.limit_set_id = made[0].pk


def _mode(get, mode, made_by):
    if mode.curves:
        digest = hashlib.sha256(mode.curves.encode()).hexdigest()
        mode.curve_set, _ = get("KeptText").objects.get_or_create(
            sha256=digest, defaults={"kind": "curves", "text": mode.curves}
        )
    _limits(get, mode)
    media = mode.media
    mode.preset, _ = get("MediaPreset").objects.get_or_create(
        name=f"{media.name} on {mode.printer.model}"[:160],
        defaults={
            "media": media,
            "printer_model": mode.printer.model,
            "handling": {"heat_on": media.heat, "vacuum": media.vacuum},
        },
    )
    for key, name in (("heat_on", "heat"), ("vacuum", "vacuum")):
        value = mode.environment.get(name)
        if value is not None and value != getattr(media, name):
            mode.handling[key] = value
    mode.calibrated_at = (mode.released_at or mode.created_at) if mode.curves else None
    mode.made_by_id = made_by
    mode.save()
    if mode.state == "released":
        content = {
            "name": mode.name,
            "environment": mode.environment,
            "limits": mode.limits,
            "total_ink": mode.total_ink,
            "splits": mode.splits,
            "inherited": mode.inherited,
            "handling": mode.handling,
            "preset": mode.preset.name,
            "in_force": {},
        }
        get("Edition").objects.create(
            mode=mode,
            number=1,
            mode_version=mode.version,
            content=content,
            curve_set_id=mode.curve_set_id,
            profile_id=mode.profile_id,
            content_hash=hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest(),
            note=mode.note,
            released_at=mode.released_at or mode.created_at,
            released_by_id=mode.released_by_id,
        )


class Migration(migrations.Migration):
    dependencies = [
        ("library", "0003_shared_library"),
        ("auth", "0012_alter_user_first_name_max_length"),
    ]

    operations = [migrations.RunPython(forwards, migrations.RunPython.noop)]
