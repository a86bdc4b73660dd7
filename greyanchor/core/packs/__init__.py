"""Packs: print modes with everything they need in one ZIP that any program can read. docs/pack-format.md says
the format.

`archive` opens and writes ZIP files that nobody checked, `manifest` holds the schema and checks a
manifest against it and against the files, `loose` reads profiles that came without a pack.
"""

from greyanchor.core.packs.archive import Ahead, Archive, write_archive
from greyanchor.core.packs.manifest import (
    FORMAT,
    SCHEMA_VERSION,
    Pack,
    Progress,
    dump_pack,
    read_pack,
    read_tested,
    schema,
)

__all__ = [
    "FORMAT",
    "SCHEMA_VERSION",
    "Ahead",
    "Archive",
    "Pack",
    "Progress",
    "dump_pack",
    "read_pack",
    "read_tested",
    "schema",
    "write_archive",
]
