"""The supplier's catalogue as this shop sees it: what it offers, what is here, and what is newer there."""

from __future__ import annotations

import json
import re
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from greyanchor.accounts.roles import MAKE, needs
from greyanchor.core.errors import BadInput
from greyanchor.core.packs.archive import version_key
from greyanchor.library.models import Installed, Offer, PackImport, Shelf
from greyanchor.library.packs import importing

#: seconds to wait for an answer, most bytes of a list, and how long a list counts as fresh
PATIENCE, MOST_LIST, FRESH = 4.0, 8 * 2**20, timedelta(minutes=15)
_VERSION = re.compile(r"^[0-9]{1,6}(\.[0-9]{1,6}){0,2}$")
_KEY = re.compile(r"^[a-z0-9-]{1,120}$")
_HASH = re.compile(r"^[0-9a-f]{64}$")


class Unreachable(BadInput):
    """The catalogue does not answer."""


def address() -> str:
    """Where the catalogue is; empty when this shop has none."""
    return str(getattr(settings, "CATALOGUE_URL", "") or "").rstrip("/")


def _open(path: str) -> Any:
    base = address()
    if not base.startswith(("http://", "https://")):
        raise Unreachable("this shop has no catalogue; whoever runs the server can set its address")
    try:
        return urllib.request.urlopen(f"{base}{path}", timeout=PATIENCE)
    except urllib.error.HTTPError as error:
        raise Unreachable(f"the catalogue at {base} answered {error.code}") from None
    except (OSError, ValueError) as error:
        why = getattr(error, "reason", error)
        raise Unreachable(f"the catalogue at {base} cannot be reached ({why})") from None


def ask() -> Shelf:
    """Ask the catalogue for its list and keep it; when it cannot be reached, the last list stays and the
    trouble is kept.
    """
    shelf, now = Shelf.current(), timezone.now()
    shelf.address, shelf.asked_at = address(), now
    try:
        with _open("/packs") as answer:
            data = answer.read(MOST_LIST + 1)
        offers = _offers(data)
    except OSError as error:
        shelf.trouble = f"the catalogue broke off ({error})"[:300]
    except BadInput as error:
        shelf.trouble = error.reason[:300]
    else:
        with transaction.atomic():
            for parts in offers:
                Offer.objects.update_or_create(key=parts.pop("key"), defaults={**parts, "seen_at": now})
            Offer.objects.filter(seen_at__lt=now).delete()
        shelf.trouble, shelf.reached_at = "", now
    shelf.save()
    return shelf


def ask_when_stale() -> Shelf:
    """The shelf, asked again when the last answer is old."""
    shelf = Shelf.current()
    fresh = shelf.asked_at is not None and timezone.now() - shelf.asked_at < FRESH
    return shelf if fresh and shelf.address == address() else ask()


def _offers(data: bytes) -> list[dict[str, Any]]:
    if len(data) > MOST_LIST:
        raise BadInput("the catalogue's list is too long; it was not read")
    try:
        rows = json.loads(data)["packs"]
        out = [
            {
                "key": str(r["key"]),
                "title": str(r["title"])[:160],
                "maker": str(r["maker"])[:120],
                "media_class": str(r["media_class"])[:160],
                "printer": str(r["printer"])[:80],
                "version": str(r["version"]),
                "modes": int(r["modes"]),
                "size": int(r["size"]),
                "sha256": str(r["sha256"]),
                "note": str(r["note"])[:4000],
                "versions": [
                    {"version": str(v["version"]), "sha256": str(v["sha256"]), "size": int(v["size"])}
                    for v in r["versions"]
                ],
            }
            for r in rows
        ]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise BadInput("the catalogue answered with something that is no list of packs") from None
    for offer in out:
        for parts in [offer, *offer["versions"]]:
            if not (_VERSION.match(parts["version"]) and _HASH.match(parts["sha256"]) and parts["size"] >= 0):
                raise BadInput(f"the catalogue says a version of {offer['title']} that is none")
        if not _KEY.match(offer["key"]):
            raise BadInput("the catalogue says a pack with a key that is none")
    return out


@needs(MAKE)
def fetch(key: str, version: str, user: User) -> PackImport:
    """Fetch a pack, hold it to the hash the catalogue promised, and queue its import."""
    offer = Offer.objects.filter(key=key).first()
    found = next((v for v in offer.versions if v["version"] == version), None) if offer else None
    if offer is None or found is None:
        raise BadInput("the catalogue does not offer that any more; ask it again")
    with _open(f"/packs/{key}/{version}.zip") as answer:
        return importing.receive(
            f"{offer.title} {version}", _chunks(answer, found["size"]), user, (key, version), found["sha256"]
        )


def _chunks(answer: Any, size: int) -> Iterator[bytes]:
    left = size
    try:
        while chunk := answer.read(1 << 18):
            left -= len(chunk)
            if left < 0:
                raise BadInput("the catalogue sends more than it listed; nothing was kept")
            yield chunk
    except OSError as error:
        raise Unreachable(f"the catalogue broke off in the middle ({error}); nothing was kept") from None


def here() -> dict[str, Installed]:
    """The newest version of each pack that was imported here, by key."""
    out: dict[str, Installed] = {}
    for found in Installed.objects.all():
        if found.key not in out or version_key(found.version) > version_key(out[found.key].version):
            out[found.key] = found
    return out


@dataclass(frozen=True)
class Newer:
    """A pack that is here in an older version than the catalogue has."""

    offer: Offer
    installed: Installed


def newer() -> list[Newer]:
    """Packs with a newer version in the catalogue, as it last said."""
    held = here()
    return [
        Newer(o, held[o.key])
        for o in Offer.objects.filter(key__in=held)
        if version_key(o.version) > version_key(held[o.key].version)
    ]
