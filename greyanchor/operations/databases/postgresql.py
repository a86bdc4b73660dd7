"""PostgreSQL: copied by pg_dump from one snapshot, put back by pg_restore and psql in one transaction."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from greyanchor.core.errors import BadInput
from greyanchor.operations.databases.migrations import not_newer

_TABLES = "SELECT tablename FROM pg_tables WHERE schemaname = current_schema() ORDER BY tablename"
#: first bytes of pg_dump's custom format
_MAGIC = b"PGDMP"


class PostgreSQL:
    """A database on a server, by the settings that Django has of it."""

    FILE = "greyanchor.pgdump"

    def __init__(self, facts: dict[str, Any]) -> None:
        self._facts = facts

    def exists(self) -> bool:
        return True

    def copy(self, target: Path) -> dict[str, int]:
        import psycopg

        with psycopg.connect(**self._address()) as held:
            held.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
            (snapshot,) = _row(held, "SELECT pg_export_snapshot()")
            tables = [name for (name,) in held.execute(_TABLES)]
            rows = {name: _row(held, _counted(name))[0] for name in tables}
            self._run("pg_dump", "--format=custom", "--no-owner", "--no-privileges", f"--snapshot={snapshot}",
                      f"--file={target}")  # fmt: skip
        return rows

    def examine(self, path: Path, rows: dict[str, int]) -> None:
        with path.open("rb") as opened:
            if opened.read(len(_MAGIC)) != _MAGIC:
                raise BadInput("the database in the backup is no dump of PostgreSQL")
        listed = _done([_program("pg_restore"), "--list", str(path)])
        if "TABLE DATA" not in listed:
            raise BadInput("the database in the backup holds no tables")
        not_newer(_applied(path))

    def put_back(self, path: Path, rows: dict[str, int]) -> None:
        """The rows are counted before the transaction is committed; a difference undoes all of it."""
        command = [
            _program("psql"), "--no-psqlrc", "--quiet", "--set=ON_ERROR_STOP=1", "--single-transaction",
            "--output=/dev/null", *self._options(), self._facts["NAME"],
        ]  # fmt: skip
        with subprocess.Popen(
            command, stdin=subprocess.PIPE, stderr=subprocess.PIPE, env=self._environment()
        ) as psql:
            assert psql.stdin is not None and psql.stderr is not None
            try:
                psql.stdin.write(b"DROP SCHEMA public CASCADE; CREATE SCHEMA public;\n")
                for piece in _sql(path):
                    psql.stdin.write(piece)
                psql.stdin.write(_checks(rows).encode())
                psql.stdin.close()
            except BrokenPipeError:
                pass  # what psql says of it comes below
            said = psql.stderr.read().decode(errors="replace")
        if psql.returncode:
            raise BadInput(f"the server refused the backup, and nothing was changed: {_last(said)}")

    def prove(self) -> None:
        """The server has, before the transaction was committed."""

    def _address(self) -> dict[str, Any]:
        found = {
            "dbname": self._facts["NAME"],
            "user": self._facts.get("USER"),
            "password": self._facts.get("PASSWORD"),
            "host": self._facts.get("HOST"),
            "port": self._facts.get("PORT"),
        }
        return {k: v for k, v in found.items() if v}

    def _options(self) -> list[str]:
        named = {"--host": "HOST", "--port": "PORT", "--username": "USER"}
        return [f"{option}={self._facts[key]}" for option, key in named.items() if self._facts.get(key)]

    def _environment(self) -> dict[str, str]:
        password = self._facts.get("PASSWORD")
        return {**os.environ, **({"PGPASSWORD": str(password)} if password else {})}

    def _run(self, name: str, *options: str) -> str:
        command = [_program(name), *options, *self._options(), self._facts["NAME"]]
        return _done(command, self._environment())


def _program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        raise BadInput(f"{name} is not on this machine; install PostgreSQL's client programs")
    return found


def _done(command: list[str], environment: dict[str, str] | None = None) -> str:
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=False)
    if done.returncode:
        raise BadInput(f"{Path(command[0]).name} failed: {_last(done.stderr)}")
    return done.stdout


def _last(said: str) -> str:
    lines = [line for line in said.splitlines() if line.strip()]
    errors = [line.partition("ERROR:")[2].strip() for line in lines if "ERROR:" in line]
    return (errors or lines or ["it said nothing"])[-1][:300]


def _row(held: Any, question: str) -> Any:
    return held.execute(question).fetchone()


def _counted(table: str) -> str:
    return f'SELECT count(*) FROM "{table}"'


@contextmanager
def _restoring(path: Path, *options: str) -> Iterator[Any]:
    command = [_program("pg_restore"), "--file=-", "--no-owner", "--no-privileges", *options, str(path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as opened:
        assert opened.stdout is not None and opened.stderr is not None
        yield opened.stdout
        said = opened.stderr.read().decode(errors="replace")
    if opened.returncode:
        raise BadInput(f"the database in the backup is damaged: {_last(said)}")


def _sql(path: Path) -> Iterator[bytes]:
    with _restoring(path) as out:
        for line in out:
            # the schema is made before; a second one would be refused
            if not line.startswith((b"CREATE SCHEMA public", b"ALTER SCHEMA public")):
                yield line


def _applied(path: Path) -> Iterator[tuple[str, str]]:
    """Application and name of each migration that a dump holds."""
    with _restoring(path, "--data-only", "--table=django_migrations") as out:
        for line in out:
            parts = line.decode(errors="replace").rstrip("\n").split("\t")
            if len(parts) == 4:
                yield parts[1], parts[2]


def _checks(rows: dict[str, int]) -> str:
    """Statements that fail where a table has other rows than `rows` say."""
    lines = []
    for table, count in rows.items():
        if '"' in table or "'" in table:
            raise BadInput(f"the backup names a table {table[:60]!r}, which no backup of this program has")
        said = f"{table} has other rows than the backup says"
        lines.append(
            f'IF (SELECT count(*) FROM public."{table}") <> {int(count)} '
            f"THEN RAISE EXCEPTION '{said}'; END IF;"
        )
    body = "\n".join(lines)
    return f"\nDO $rows$ BEGIN\n{body}\nEND $rows$;\n"
