"""Write deploy/sbom.json: every package that an installation has, with its version and licence (CycloneDX).

Called by lock.sh, in the environment that the lock made; what only developers need is left out.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
TARGET = ROOT / "deploy" / "sbom.json"


def shipped(lock: str) -> dict[str, str]:
    """Names and versions of a list of requirements."""
    return dict(re.findall(r"^([a-z0-9._-]+)==([^\s\\;]+)", lock, re.MULTILINE))


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def main(lock: Path) -> None:
    command = ["cyclonedx-py", "environment", "--output-reproducible", "--of", "JSON", sys.executable]
    done = subprocess.run(
        [str(Path(sys.executable).with_name(command[0])), *command[1:]],
        capture_output=True,
        text=True,
        check=True,
    )
    found: dict[str, Any] = json.loads(done.stdout)
    wanted = shipped(lock.read_text())
    parts = [c for c in found["components"] if _plain(c["name"]) in wanted]
    for part in parts:
        part["version"] = wanted[_plain(part["name"])]
        for noise in ("externalReferences", "properties", "evidence"):
            part.pop(noise, None)
        for licence in part.get("licenses", ()):
            licence.get("license", {}).pop("text", None)
    refs = {p["bom-ref"] for p in parts}
    found["components"] = sorted(parts, key=lambda p: p["name"])
    found["dependencies"] = [
        {**d, "dependsOn": [r for r in d.get("dependsOn", []) if r in refs]}
        for d in found.get("dependencies", [])
        if d["ref"] in refs
    ]
    TARGET.write_text(json.dumps(found, indent=1, sort_keys=True) + "\n")
    print(f"{TARGET.name}: {len(parts)} of {len(wanted)} packages")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
