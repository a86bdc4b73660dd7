"""The list of packages for whoever audits an installation is that of the lock."""

from __future__ import annotations

import json
import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[2]


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def test_the_list_names_every_package_at_its_locked_version_with_a_licence() -> None:
    locked = dict(
        re.findall(r"^([a-z0-9._-]+)==([^\s\\;]+)", (ROOT / "requirements.lock").read_text(), re.MULTILINE)
    )
    found = json.loads((ROOT / "deploy" / "sbom.json").read_text())
    listed = {_plain(c["name"]): c for c in found["components"]}
    assert {n: c["version"] for n, c in listed.items()} == {n: locked[n] for n in listed}
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    asked = [*project["dependencies"], *project["optional-dependencies"]["cluster"]]
    names = {_plain(re.match(r"[A-Za-z0-9._-]+", a)[0]) for a in asked}  # type: ignore[index]
    assert names <= set(listed)
    assert not {"pytest", "playwright", "moto"} & set(listed), "developers' tools are not shipped"
    # one that declares its licence (MIT) in its repository alone
    assert {n for n, c in listed.items() if not c.get("licenses")} <= {"huey"}
