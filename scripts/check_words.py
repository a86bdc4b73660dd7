"""Keep retired words out of the product, and every line within 110 characters."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

#: words that a stranger would not guess, and what is said instead
RETIRED = {
    r"told|tell|tells|telling": "say what it is: message, facts, values, report",
    r"foretold|foretell|foreseen|foresee": "predicted",
    r"anew": "again",
    r"whence": "source",
    r"upkeep": "readiness",
    r"vouches": "checks",
    r"keeping": "editing, storage",
    r"Noted|Readied|Crossed": "AuditEntry, ReadinessRun, EditConflict",
    r"put_on_mode|held_by|settings_held": "apply_to_mode, blocking_references, effective_settings",
    r"though wet|is wanted|are wanted|makes void|Touched by hand|Released all the same": "see docs/words.md",
    r"Came by itself|Carried onto|Minutes there are|How it stands|nobody said": "see docs/words.md",
}
LONGEST = 110
_PATTERNS = {re.compile(rf"\b({words})\b"): instead for words, instead in RETIRED.items()}
#: tables and lock files may be wide
_DATA = (".csv", ".lock", ".json", ".svg", ".png", ".woff2", ".ttf", ".xz", ".txt")
#: lines that a standard or a tool gives
_EXEMPT = re.compile(r"https?://\S+$")


def problems(path: Path) -> list[str]:
    """What is wrong with a file, a line each."""
    found = []
    for number, line in enumerate(path.read_text(encoding="utf-8").split("\n"), 1):
        if len(line) > LONGEST and path.suffix not in _DATA and not _EXEMPT.search(line):
            found.append(f"{path}:{number}: {len(line)} characters, {LONGEST} are allowed")
        if "migrations" in path.parts or path.parts[0] != "greyanchor" or path.suffix in _DATA:
            continue
        for pattern, instead in _PATTERNS.items():
            if hit := pattern.search(line):
                found.append(f"{path}:{number}: {hit[1]!r} is a retired word; {instead}")
    return found


def tracked() -> list[Path]:
    """Files of the repository; where git knows nothing of it, all but what tools made."""
    found = subprocess.run(["git", "ls-files"], capture_output=True, text=True)
    if found.returncode == 0:
        return [Path(name) for name in found.stdout.splitlines()]
    made = {".venv", "node_modules", "var", "build", "__pycache__"}
    return [f for f in Path().rglob("*") if not made & set(f.parts) and not f.parts[0].startswith(".")]


def main() -> int:
    binary = (".png", ".woff2", ".ttf", ".xz", ".pyc", ".sqlite3", ".npz")
    text = [f for f in tracked() if f.is_file() and f.suffix not in binary and "vendor" not in f.parts]
    found = [problem for f in text for problem in problems(f)]
    print("\n".join(found), end="\n" if found else "")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
