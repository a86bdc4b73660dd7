"""Calls made up from the interface's own description, as every role: `python -m benchmarks.schema`."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.report import report
from tests.browser.conftest import Server
from tests.conftest import PEOPLE_AND_MACHINES, run_in

_KEY = """
import django, sys; django.setup()
from django.contrib.auth.models import User
from greyanchor.accounts import people
print(people.make_key(User.objects.get(username=sys.argv[1]), "schema"))
"""
#: what the description's files are made of where it says no more than that they are files
_HOOKS = """
import schemathesis

for kind in ("application/zip", "image/tiff", "application/pdf", "application/octet-stream"):
    @schemathesis.serializer(kind)
    def raw(context, value):
        return value if isinstance(value, bytes) else str(value).encode()
"""
_CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"


def run(examples: int = 20) -> None:
    """Let another program make up calls, for an operator, a technician and a lead."""
    print("\nCalls made up from the description of the interface")
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "home"
        home.mkdir()
        made = run_in(home, "-c", PEOPLE_AND_MACHINES)
        assert made.returncode == 0, made.stderr
        hooks = Path(folder) / "hooks.py"
        hooks.write_text(_HOOKS)
        server = Server(home)
        server.set_up("released_mode")
        server.start()
        try:
            for name in ("ada", "tobias", "ines"):
                _as(name, server, hooks, examples)
        finally:
            server.stop()


def _as(name: str, server: Server, hooks: Path, examples: int) -> None:
    done = subprocess.run(
        [sys.executable, "-c", _KEY, name], env=server.environment, capture_output=True, text=True, check=True
    )
    program = shutil.which("st") or str(Path(sys.executable).with_name("st"))
    command = [
        program, "run", f"{server.url}/api/v1/openapi.json", "--checks", _CHECKS,
        "-H", f"Authorization: Bearer {done.stdout.strip()}", "--max-examples", str(examples),
        "--workers", "2", "--no-color", "--continue-on-failure", "--seed", "7",
    ]  # fmt: skip
    found = subprocess.run(
        command, env={**os.environ, "SCHEMATHESIS_HOOKS": str(hooks)}, capture_output=True, text=True
    )
    said = re.search(r"(\d+) generated", found.stdout)
    failures = sum(int(n) for n in re.findall(r"(?:❌ ST\d+ [^:]+|🚫 [A-Z][^:]+): (\d+)", found.stdout))
    if found.returncode not in (0, 1):
        print(found.stdout[-2000:], found.stderr[-2000:])
        failures += 1
    if failures:
        print(
            "\n".join(line for line in found.stdout.splitlines() if "- ST" in line or "curl" in line)[:4000]
        )
    report(f"as {name}, {said[1] if said else '?'} calls: failures", failures, 0.0, "")


if __name__ == "__main__":
    run(int(sys.argv[1]) if len(sys.argv) > 1 else 20)
