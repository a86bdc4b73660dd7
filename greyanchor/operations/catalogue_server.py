"""The stand-in of a supplier's catalogue: a small HTTP service over a folder of packs.

``GET /packs`` lists them as JSON and takes ``q``, ``maker``, ``class`` and ``printer``; each entry says
its versions and the SHA-256 of each. ``GET /packs/KEY/VERSION.zip`` is the pack itself. It knows nothing of
the application and shares nothing with it but the format of packs.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

from greyanchor.core.errors import BadInput
from greyanchor.core.packs import Archive
from greyanchor.core.packs.archive import file_hash, version_key
from greyanchor.core.search.facets import words_of

_PACK = re.compile(r"^/packs/([a-z0-9-]{1,120})/([0-9]+(?:\.[0-9]+){0,2})\.zip$")
_CHUNK = 1 << 18
StartResponse = Callable[[str, list[tuple[str, str]]], Any]


class Catalogue:
    """Packs of a folder by key and version; the folder is looked at again whenever a file in it changed."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._seen: dict[Path, tuple[tuple[float, int], dict[str, Any] | None]] = {}

    def _entries(self) -> dict[str, list[dict[str, Any]]]:
        """Versions of each pack, the newest first; files that are no packs are passed over."""
        out: dict[str, list[dict[str, Any]]] = {}
        for path in sorted(self.folder.glob("*.zip")):
            found = path.stat()
            stamp = (found.st_mtime, found.st_size)
            if path not in self._seen or self._seen[path][0] != stamp:
                self._seen[path] = (stamp, self._entry(path))
            entry = self._seen[path][1]
            if entry is not None:
                out.setdefault(entry["key"], []).append(entry)
        for versions in out.values():
            versions.sort(key=lambda e: version_key(e["version"]), reverse=True)
        return out

    @staticmethod
    def _entry(path: Path) -> dict[str, Any] | None:
        try:
            with Archive(path, path.name) as archive:
                found = json.loads(archive.read("manifest.json"))
            return {
                "key": found["key"],
                "version": found["version"],
                "title": found["title"],
                "maker": found.get("maker", ""),
                "note": found.get("note", ""),
                "media_class": ", ".join(c["name"] for c in found["media_classes"]),
                "printer": ", ".join(p["model"] for p in found["printers"]),
                "modes": len(found["modes"]),
                "size": path.stat().st_size,
                "sha256": file_hash(path),
                "path": path,
            }
        except (BadInput, KeyError, ValueError, TypeError):
            return None

    def listed(self, query: dict[str, list[str]]) -> list[dict[str, Any]]:
        """Newest versions that answer a query, each with all its versions."""
        out = []
        for versions in self._entries().values():
            newest = versions[0]
            wanted = {"maker": "maker", "class": "media_class", "printer": "printer"}
            if any(
                query[k][0].casefold() not in newest[f].casefold() for k, f in wanted.items() if query.get(k)
            ):
                continue
            words = words_of(
                " ".join(str(newest[f]) for f in ("title", "maker", "media_class", "printer", "note"))
            )
            if not all(any(w in known for known in words) for w in words_of(query.get("q", [""])[0])):
                continue
            facts = {k: v for k, v in newest.items() if k != "path"}
            out.append(
                {
                    **facts,
                    "versions": [
                        {"version": v["version"], "sha256": v["sha256"], "size": v["size"]} for v in versions
                    ],
                }
            )
        return sorted(out, key=lambda e: (e["maker"], e["title"]))

    def file(self, key: str, version: str) -> Path | None:
        """The file of a pack; None where there is none."""
        return next((e["path"] for e in self._entries().get(key, []) if e["version"] == version), None)

    def __call__(self, environ: dict[str, Any], start: StartResponse) -> Iterable[bytes]:
        """The WSGI application."""
        path, method = environ.get("PATH_INFO", ""), environ.get("REQUEST_METHOD")
        if method != "GET":
            return self._json(start, "405 Method Not Allowed", {"error": "this catalogue is only read"})
        if path == "/packs":
            return self._json(
                start, "200 OK", {"packs": self.listed(parse_qs(environ.get("QUERY_STRING", "")))}
            )
        found = _PACK.match(path)
        file = self.file(found[1], found[2]) if found else None
        if file is None:
            return self._json(start, "404 Not Found", {"error": "there is no such pack"})
        start("200 OK", [("Content-Type", "application/zip"), ("Content-Length", str(file.stat().st_size))])
        return _pieces(file)

    @staticmethod
    def _json(start: StartResponse, status: str, body: dict[str, Any]) -> list[bytes]:
        data = json.dumps(body).encode()
        start(status, [("Content-Type", "application/json"), ("Content-Length", str(len(data)))])
        return [data]


def _pieces(path: Path) -> Iterable[bytes]:
    with path.open("rb") as opened:
        yield from iter(lambda: opened.read(_CHUNK), b"")


def run(folder: Path, host: str, port: int) -> None:
    """Serve the packs of a folder until a signal ends the process."""
    from waitress import serve

    folder.mkdir(parents=True, exist_ok=True)
    serve(Catalogue(folder), host=host, port=port, threads=2, ident="catalogue")
