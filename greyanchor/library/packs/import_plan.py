"""What a pack would create, change or leave, before anything is written; and what a person may choose."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.core.packs import Pack
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.core.printing.families import guess_family
from greyanchor.core.printing.handling import SETTINGS
from greyanchor.library.models import InkSet, Media, MediaClass, MediaPreset, Printer, PrintMode

CREATE, SAME, CLASH, MAP = "create", "same", "clash", "map"
#: what can be done about a name that is taken
KEEP_BOTH, UPDATE, SKIP = "both", "update", "skip"
ON_CLASH = ((KEEP_BOTH, "keep both"), (UPDATE, "update ours"), (SKIP, "leave ours"))
_MEDIA_FACTS = (
    "maker",
    "weight",
    "thickness",
    "width_mm",
    "brightener",
    "travels_backwards",
    "unreadable",
    "dry_minutes",
)


def plan_of(pack: Pack, supplied: Collection[int] = ()) -> dict[str, Any]:
    """Every record of a pack beside ours, as plain rows with an ``action`` and, where there is one, our
    ``ours``.

    `supplied` are modes that an older version of the same pack brought: updating those is suggested.
    """
    return {
        "title": pack.manifest["title"],
        "maker": pack.manifest.get("maker", ""),
        "version": pack.manifest.get("version", ""),
        "note": pack.manifest.get("note", ""),
        "made_at": pack.manifest["made_at"],
        "files": len(pack.manifest["files"]),
        "printers": [_printer(p) for p in pack.manifest["printers"]],
        "ink_sets": [_ink_set(i) for i in pack.manifest["ink_sets"]],
        "media_classes": [_class(c) for c in pack.manifest["media_classes"]],
        "media": [_media(m) for m in pack.manifest["media"]],
        "presets": [_preset(p) for p in pack.manifest.get("presets", [])],
        "modes": _modes(pack, supplied),
    }


def _printer(values: Mapping[str, Any]) -> dict[str, Any]:
    ours = Printer.objects.filter(model__iexact=values["model"]).order_by("name").first()
    return {"name": values["model"], "action": SAME if ours else MAP, "ours": ours.pk if ours else None}


def _ink_set(values: Mapping[str, Any]) -> dict[str, Any]:
    ours = InkSet.objects.filter(name__iexact=values["name"]).first()
    if ours is not None and ours.channels == values["channels"] and ours.light == values.get("light", {}):
        return {"name": values["name"], "action": SAME, "ours": ours.pk, "text": ours.channel_text}
    alike = next(
        (
            i
            for i in InkSet.objects.all()
            if i.channels == values["channels"] and i.light == values.get("light", {})
        ),
        None,
    )
    text = " ".join([*values["channels"], *values.get("light", {})])
    return {
        "name": values["name"],
        "action": CREATE if ours is None else MAP,
        "ours": alike.pk if alike and ours else None,
        "text": text,
    }


def _class(values: Mapping[str, Any]) -> dict[str, Any]:
    ours = MediaClass.objects.filter(name__iexact=values["name"]).first()
    if ours is not None:
        return {"name": values["name"], "action": SAME, "ours": ours.pk}
    family = values.get("family") or guess_family(values["name"])
    alike = MediaClass.objects.filter(family=family).order_by("name").first() if family else None
    return {"name": values["name"], "action": MAP, "ours": alike.pk if alike else None, "family": family}


def _media(values: Mapping[str, Any]) -> dict[str, Any]:
    ours = Media.objects.filter(name__iexact=values["name"]).first()
    if ours is None:
        return {"name": values["name"], "action": CREATE, "ours": None, "differs": []}
    differs = [
        f"{name.replace('_', ' ')}: {getattr(ours, name)} here, {values[name]} in the pack"
        for name in _MEDIA_FACTS
        if name in values and values[name] != getattr(ours, name)
    ]
    return {"name": values["name"], "action": SAME, "ours": ours.pk, "differs": differs}


def _preset(values: Mapping[str, Any]) -> dict[str, Any]:
    ours = MediaPreset.objects.filter(name__iexact=values["name"]).first()
    if ours is None:
        return {"name": values["name"], "action": CREATE, "ours": None}
    differs = _handling(ours.handling, values.get("handling", {}))
    return {"name": values["name"], "action": CLASH if differs else SAME, "ours": ours.pk, "differs": differs}


def _both(what: str, ours: str, theirs: str) -> str:
    return f"{what} {ours} here, {theirs} in the pack"


def _handling(ours: Mapping[str, float], theirs: Mapping[str, float]) -> list[str]:
    """Each handling setting that is held otherwise, with both values."""

    def shown(key: str, value: float | None) -> str:
        return "not held" if value is None else f"{value:g} {SETTINGS[key].unit}"

    return [
        _both(setting.title, shown(key, ours.get(key)), shown(key, theirs.get(key)))
        for key, setting in SETTINGS.items()
        if ours.get(key) != theirs.get(key)
    ]


def _limits(ours: Mapping[str, float], theirs: Mapping[str, float]) -> list[str]:
    """Each ink limit that is another, to a hundredth of a percent."""

    def shown(value: float | None) -> str:
        return "none" if value is None else f"{value:.1f} %"

    return [
        _both(f"{channel} limit", shown(ours.get(channel)), shown(theirs.get(channel)))
        for channel in dict.fromkeys([*ours, *theirs])
        if round(ours.get(channel, -1.0), 2) != round(theirs.get(channel, -1.0), 2)
    ]


def names_taken() -> dict[str, int]:
    """Primary keys of all modes by their name in small letters."""
    return {name.casefold(): pk for pk, name in PrintMode.objects.order_by().values_list("pk", "name")}


def _modes(pack: Pack, supplied: Collection[int]) -> list[dict[str, Any]]:
    taken, files = names_taken(), pack.manifest["files"]
    out = []
    for parts in pack.modes:
        row = {
            "name": parts["name"],
            "printer": parts["printer"],
            "media": parts["media"],
            "action": CREATE,
            "ours": None,
            "state": "released" if parts.get("released_at") else "draft",
        }
        pk = taken.get(parts["name"].casefold())
        if pk is not None:
            ours = (
                PrintMode.objects.select_related("curve_set", "profile")
                .defer("curve_set__text", "profile__data", "profile__fitted", "profile__boundary")
                .get(pk=pk)
            )
            differs = _differences(parts, ours, files)
            suggest = UPDATE if pk in supplied else KEEP_BOTH
            row |= {"ours": pk, "action": CLASH if differs else SAME, "differs": differs, "suggest": suggest}
        out.append(row)
    return out


def _differences(values: Mapping[str, Any], ours: PrintMode, files: Mapping[str, Any]) -> list[str]:
    """What differs between a packed mode and ours of the same name, in words; nothing for two of one
    content.
    """
    found = []
    theirs = PrintEnvironment(**values["environment"]).as_dict()
    for name, value in theirs.items():
        if name not in ("printer", "ink_set", "media") and ours.environment.get(name) != value:
            found.append(_both(name, str(ours.environment.get(name)), str(value)))
    found += _limits(ours.limits, values["limits"])
    totals = [t and round(t, 2) for t in (ours.total_ink, values.get("total_ink"))]
    if totals[0] != totals[1]:
        found.append(_both("total ink", *(f"{t:.0f} %" if t else "none" for t in totals)))
    for what, key, sha in (
        ("curves", "curves", ours.curve_set.sha256 if ours.curve_set else None),
        ("profile", "profile", ours.profile.sha256 if ours.profile else None),
    ):
        if (files[values[key]]["sha256"] if values.get(key) else None) != sha:
            found.append(f"another {what}" if what == "profile" else f"other {what}")
    return [*found, *_handling(ours.handling, values.get("handling", {}))]


def usual_choices(plan: Mapping[str, Any]) -> dict[str, Any]:
    """What happens when nobody chooses anything."""
    return {
        "printers": {p["name"]: p["ours"] for p in plan["printers"]},
        "ink_sets": {i["name"]: i["ours"] for i in plan["ink_sets"]},
        "media_classes": {c["name"]: c["ours"] for c in plan["media_classes"]},
        "presets": {p["name"]: SKIP for p in plan["presets"] if p["action"] == CLASH},
        "modes": {m["name"]: m["suggest"] for m in plan["modes"] if m["action"] == CLASH},
        "state": "review",
    }


def checked_choices(plan: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """Choices as a person made them, completed and held to what can be chosen."""
    out = usual_choices(plan)
    for kind, model in (("printers", Printer), ("ink_sets", InkSet), ("media_classes", MediaClass)):
        known = set(model._default_manager.values_list("pk", flat=True))  # type: ignore[attr-defined]
        for name in out[kind]:
            if name in values.get(kind, {}):
                value = values[kind][name]
                if value is not None and value not in known:
                    raise BadInput(f"what {name} was mapped to is not there any more; choose again")
                out[kind][name] = value
    ways = {w for w, _ in ON_CLASH}
    for kind in ("presets", "modes"):
        for name in out[kind]:
            way = values.get(kind, {}).get(name, out[kind][name])
            if way not in ways:
                raise BadInput(f"{name}: keep both, update ours, or leave ours")
            out[kind][name] = way
    for row in plan["ink_sets"]:
        ours = out["ink_sets"][row["name"]]
        if ours is not None:
            found = InkSet.objects.get(pk=ours)
            if found.channel_text != row["text"]:
                raise BadInput(
                    f"{row['name']} prints {row['text']}, {found.name} prints {found.channel_text}; map it "
                    "to inks of the same channels"
                )
        elif row["action"] == MAP:
            raise BadInput(
                f"there is an ink set called {row['name']} with other channels here; map it to one of ours"
            )
    out["state"] = "packed" if values.get("state") == "packed" else "review"
    if all(v is None for v in out["printers"].values()):
        raise BadInput("no printer of the pack was mapped to one of ours, so nothing would be imported")
    return out
