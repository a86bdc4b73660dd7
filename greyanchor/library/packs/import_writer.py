"""Writing what a pack holds into the library, as a person decided."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from greyanchor.accounts.roles import MAKE, NotAllowed, may
from greyanchor.core.packs import Ahead, Archive, Pack
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.library.models import (
    InkSet,
    Installed,
    KeptText,
    Media,
    MediaClass,
    MediaPreset,
    PackImport,
    Printer,
    PrintMode,
)
from greyanchor.library.packs import import_plan
from greyanchor.library.records.editing import write
from greyanchor.library.records.editions import keep_edition
from greyanchor.profiles.models import Profile


class PackWriter:
    """Writes what a pack holds, inside one transaction."""

    def __init__(
        self, job: PackImport, pack: Pack, archive: Archive, facts: dict[str, dict[str, Any]]
    ) -> None:
        self.job, self.pack, self.archive, self.facts = job, pack, archive, facts
        self.user: Any = job.started_by
        self.why = f"imported from {pack.manifest['title']} {pack.manifest.get('version', '')}".strip()
        self.choices = job.choices
        self.counts = {"created": 0, "updated": 0, "left": 0}
        self.profiles = dict(Profile.objects.values_list("sha256", "pk"))
        self.taken = import_plan.names_taken()
        self.rows = {r["name"]: r for r in job.plan["modes"]}
        self.people = {f"{u.first_name} {u.last_name}".strip(): u for u in User.objects.all()}

    def write(self) -> dict[str, Any]:
        if not may(self.user, MAKE):
            raise NotAllowed(self.user, MAKE)
        self.printers = {
            name: Printer.objects.get(pk=pk) for name, pk in self.choices["printers"].items() if pk
        }
        self.wanted = [
            m for m in self.pack.modes if m["printer"] in self.printers and self._way(m) != import_plan.SKIP
        ]
        self.inks = {
            i["name"]: self._ink_set(i)
            for i in self.pack.manifest["ink_sets"]
            if self._used("ink_set", i["name"])
        }
        media = {m["media"] for m in self.wanted} | {
            p["media"] for p in self.pack.manifest.get("presets", []) if self._used("preset", p["name"])
        }
        found = self.pack.named("media")
        groups = {found[name]["media_class"] for name in media}
        self.classes = {
            c["name"]: self._class(c) for c in self.pack.manifest["media_classes"] if c["name"] in groups
        }
        self.media = {name: self._media(found[name]) for name in sorted(media)}
        self.presets = {
            p["name"]: self._preset(p)
            for p in self.pack.manifest.get("presets", [])
            if self._used("preset", p["name"])
        }
        with Ahead(self.archive, self._new_profiles(), Archive.read) as self.ahead:
            modes = [self._mode(m) for m in self.pack.modes if m["printer"] in self.printers]
        kept = [m.pk for m in modes if m is not None]
        if self.job.offer_key:
            made = Installed.objects.create(
                key=self.job.offer_key,
                version=self.job.offer_version,
                title=self.pack.manifest["title"],
                sha256=self.job.sha256,
                installed_by=self.user,
            )
            made.modes.set(kept)
        return {"modes": kept, "counts": self.counts}

    def _new_profiles(self) -> list[str]:
        """Profiles that will be asked for, in the order of their modes."""
        found: dict[str, str] = {}
        for mode in self.wanted:
            here = self.rows[mode["name"]]["action"] == import_plan.SAME
            if mode.get("profile") and not here:
                found.setdefault(self.pack.manifest["files"][mode["profile"]]["sha256"], mode["profile"])
        return [name for sha, name in found.items() if sha not in self.profiles]

    def _way(self, values: dict[str, Any]) -> str:
        return str(self.choices["modes"].get(values["name"], ""))

    def _used(self, field: str, name: str) -> bool:
        return any(m.get(field) == name for m in self.wanted)

    def _ink_set(self, values: dict[str, Any]) -> InkSet:
        ours = self.choices["ink_sets"].get(values["name"])
        if ours:
            found = InkSet.objects.get(pk=ours)
        else:
            found = InkSet(
                name=values["name"],
                channels=values["channels"],
                light=values.get("light", {}),
                facts=values.get("facts", {}),
                kind=values.get("kind") or "unknown",
            )
            self._keep(found)
        for mode in self.wanted:
            if mode["ink_set"] == values["name"]:
                self._run(self.printers[mode["printer"]], found)
        return found

    def _run(self, printer: Printer, ink_set: InkSet) -> None:
        """Say that a printer runs an ink set, where nobody did yet."""
        pks = list(printer.ink_sets.values_list("pk", flat=True))
        if ink_set.pk not in pks:
            printer.wanted_links = {"ink_sets": [*pks, ink_set.pk]}  # type: ignore[attr-defined]
            printer.version += 1
            self._keep(printer)

    def _keep(self, record: Any) -> None:
        write(record, self.user, self.why)

    def _class(self, values: dict[str, Any]) -> MediaClass:
        ours = self.choices["media_classes"].get(values["name"])
        if ours:
            return MediaClass.objects.get(pk=ours)
        made = MediaClass(
            name=values["name"][:80],
            family=values.get("family", ""),
            handling=values.get("handling", {}),
            reasons=values.get("reasons", {}),
        )
        self._keep(made)
        return made

    def _media(self, values: dict[str, Any]) -> Media:
        ours = Media.objects.filter(name__iexact=values["name"]).first()
        if ours is not None:
            return ours
        made = Media(
            name=values["name"][:120],
            media_class=self.classes[values["media_class"]],
            maker=values["maker"],
            weight=values.get("weight", 200),
            thickness=values.get("thickness", 200),
            width_mm=values.get("width_mm", 1000),
            brightener=values.get("brightener", "none"),
            travels_backwards=values.get("travels_backwards", True),
            unreadable=values.get("unreadable", False),
            dry_minutes=values.get("dry_minutes", 30),
            notes=values.get("notes", ""),
        )
        self._keep(made)
        return made

    def _preset(self, values: dict[str, Any]) -> MediaPreset:
        model = (
            self.printers[values["printer"]].model
            if values["printer"] in self.printers
            else values["printer"]
        )
        ours = MediaPreset.objects.filter(name__iexact=values["name"]).first()
        way = self.choices["presets"].get(values["name"])
        if ours is not None and way in (None, import_plan.SKIP):
            return ours
        if ours is not None and way == import_plan.UPDATE:
            ours.handling, ours.notes = values.get("handling", {}), values.get("notes", ours.notes)
            ours.version += 1
            self._keep(ours)
            return ours
        made = MediaPreset(
            name=self._free_preset(values["name"]),
            media=self.media[values["media"]],
            printer_model=model,
            handling=values.get("handling", {}),
            notes=values.get("notes", ""),
            made_by=self.user,
        )
        self._keep(made)
        return made

    def _free_name(self, name: str) -> str:
        """A name for a mode: `name`, with a number behind it when it is taken."""
        free, number = name, 2
        while free.casefold() in self.taken:
            free, number = f"{name[:150]} ({number})", number + 1
        return free

    @staticmethod
    def _free_preset(name: str) -> str:
        """The same for a preset."""
        free, number = name, 2
        while MediaPreset.objects.filter(name__iexact=free).exists():
            free, number = f"{name[:150]} ({number})", number + 1
        return free

    def _mode(self, values: dict[str, Any]) -> PrintMode | None:
        pk = self.taken.get(values["name"].casefold())
        ours = PrintMode.objects.get(pk=pk) if pk else None
        row = self.rows.get(values["name"]) if ours else None
        way = self._way(values)
        if ours is not None and (way == import_plan.SKIP or (row and row["action"] == import_plan.SAME)):
            self.counts["left"] += 1
            return ours if row and row["action"] == import_plan.SAME else None
        update = ours is not None and way == import_plan.UPDATE
        mode = (
            ours
            if update and ours is not None
            else PrintMode(name=self._free_name(values["name"]), made_by=self.user)
        )
        self._fill(mode, values)
        if update:
            mode.version += 1
        self._keep(mode)
        self.taken[mode.name.casefold()] = mode.pk
        self.counts["updated" if update else "created"] += 1
        if mode.state == PrintMode.State.RELEASED:
            when = (
                (
                    f", edition {values['edition']} released there by "
                    f"{values.get('released_by') or 'nobody named'}"
                )
                if values.get("edition")
                else ""
            )
            keep_edition(mode, [{"rule": "import", "ok": True, "text": f"{self.why}{when}"}], self.user)
        return mode

    def _fill(self, mode: PrintMode, values: dict[str, Any]) -> None:
        printer, ink_set, media = (
            self.printers[values["printer"]],
            self.inks[values["ink_set"]],
            self.media[values["media"]],
        )
        environment = PrintEnvironment(
            **{
                **values["environment"],
                "printer": printer.model,
                "ink_set": ink_set.name,
                "media": media.name,
            }
        )
        mode.printer, mode.ink_set, mode.media = printer, ink_set, media
        mode.environment, mode.environment_hash = environment.as_dict(), environment.content_hash()
        mode.preset = self.presets.get(values.get("preset") or "")
        mode.handling = {k: v for k, v in values.get("handling", {}).items() if k in printer.abilities}
        mode.limits, mode.total_ink = values["limits"], values.get("total_ink")
        mode.splits, mode.inherited = values.get("splits", []), values.get("inherited", {})
        mode.planes, mode.film = values.get("planes", {}), values.get("film", {})
        mode.recipes = sound_recipes(values.get("recipes"))
        mode.curves = self._text(values["curves"]) if values.get("curves") else ""
        mode.calibrated_at = _time(values.get("calibrated_at")) or mode.calibrated_at
        mode.profile_id = self._profile(values) if values.get("profile") else None
        mode.readings = [
            {
                "purpose": r["purpose"],
                "sha256": KeptText.of(self._text(r["file"]), KeptText.Kind.READINGS).sha256,
            }
            for r in values.get("readings", [])
        ]
        mode.note = values.get("note", "")
        mode.last_verdict, mode.last_check_summary = (
            values.get("verdict", ""),
            values.get("check_summary", ""),
        )
        as_packed = self.choices.get("state") == "packed" and values.get("released_at") and mode.is_whole
        if as_packed:
            mode.state, mode.released_at = (
                PrintMode.State.RELEASED,
                _time(values["released_at"]) or timezone.now(),
            )
            mode.released_by = self.people.get(values.get("released_by") or "")
        elif mode.pk is None or mode.state != PrintMode.State.RELEASED:
            mode.state = PrintMode.State.READY if mode.is_whole else PrintMode.State.BUILDING

    def _text(self, name: str) -> str:
        return self.archive.read(name).decode("utf-8-sig", errors="replace")

    def _profile(self, values: dict[str, Any]) -> int:
        sha = self.pack.manifest["files"][values["profile"]]["sha256"]
        if sha not in self.profiles:
            facts = self.facts[values["profile"]]
            made = Profile.objects.create(
                title=(values.get("profile_title") or values["name"])[:160],
                version=facts["version"],
                data=self.ahead.of(values["profile"]),
                sha256=sha,
                report=facts["report"],
                settings=facts["settings"],
                neutral=facts["neutral"],
                boundary=facts["boundary"],
                lightest=facts["lightest"],
                darkest=facts["darkest"],
                channels=self.inks[values["ink_set"]].channels,
                created_by=self.user,
                made_from={**facts["made_from"], "pack": self.why},
            )
            self.profiles[sha] = made.pk
        return self.profiles[sha]


def _time(text: str | None) -> datetime | None:
    try:
        found = parse_datetime(text) if text else None
    except ValueError:
        return None
    return None if found is None else found if timezone.is_aware(found) else timezone.make_aware(found)


def sound_recipes(found: Any) -> dict[str, Any]:
    """Recipes of spot colours of a pack: those that are whole; others are passed over, as fields are that a
    reader does not know.
    """
    if not isinstance(found, dict):
        return {}
    return {name[:80]: fact for name, fact in found.items() if isinstance(fact, dict) and _is_recipe(fact)}


def _is_recipe(fact: dict[str, Any]) -> bool:
    inks, lab = fact.get("inks"), fact.get("of")
    return (
        isinstance(fact.get("profile"), str)
        and isinstance(inks, list)
        and isinstance(lab, list)
        and 1 <= len(inks) <= 8
        and len(lab) == 3
        and all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in (*inks, *lab))
        and all(0.0 <= v <= 1.0 for v in inks)
    )
