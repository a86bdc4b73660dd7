"""Everything of a shop as open files: packs, ICC, CGATS, CSV and JSON."""

from __future__ import annotations

import io
import json
import os
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from greyanchor.core import cells
from greyanchor.core.packs.archive import sha256_of
from greyanchor.operations.backup import beside


def export(target: Path) -> int:
    """Write everything that people made to a ZIP of open files: packs, ICC, CGATS, CSV and JSON; gives their
    number.
    """
    target, partial = beside(target)
    count = 0
    try:
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as archive:
            facts = {}
            for name, data in _open_files():
                archive.writestr(name, data)
                facts[name] = sha256_of(data)
                count += 1
            archive.writestr("files.json", json.dumps(facts, indent=1))
        os.replace(partial, target)
    finally:
        partial.unlink(missing_ok=True)
    return count


def _open_files() -> Iterator[tuple[str, bytes]]:
    from greyanchor.accounts.models import AuditEntry
    from greyanchor.checks.models import Check, ToleranceRecord
    from greyanchor.core.verification import spot_files
    from greyanchor.library.models import Attachment, KeptText, PrintMode
    from greyanchor.library.packs.builder import MOST_MODES, Label, pack_modes
    from greyanchor.library.records.editing import history
    from greyanchor.library.records.record_types import KINDS
    from greyanchor.measuring.models import Chart, ReadingPass
    from greyanchor.profiles.models import AimRecord, Profile, SpotLibrary

    pks = list(PrintMode.objects.order_by("pk").values_list("pk", flat=True))
    for start in range(0, len(pks), MOST_MODES):
        out = io.BytesIO()
        pack_modes(pks[start : start + MOST_MODES], Label("All print modes"), out)
        yield f"print-modes-{start // MOST_MODES + 1}.zip", out.getvalue()
    for kind in KINDS.values():
        rows = [
            {"id": r.pk, **kind.flat(r), "version": r.version}
            for r in kind.model._default_manager.order_by("pk").iterator(200)
        ]
        yield f"library/{kind.key}.json", _json(rows)
        past = {
            str(r.pk): [
                {"version": e.version, "at": e.at.isoformat(), "who": e.who, "why": e.why}
                for e in history(r, 500)
            ]
            for r in kind.model._default_manager.order_by("pk").iterator(200)
        }
        yield f"library/{kind.key}-history.json", _json(past)
    yield (
        "library/other-changes.csv",
        _csv(
            ["at", "who", "record", "id", "what", "before", "after"],
            (
                [
                    n.at.isoformat(),
                    n.who.username if n.who else "",
                    n.content_type.model,
                    n.object_id,
                    n.what,
                    n.before,
                    n.after,
                ]
                for n in AuditEntry.objects.select_related("who", "content_type").order_by("pk").iterator(500)
            ),
        ),
    )
    for profile in Profile.objects.order_by("pk").iterator(20):
        yield f"profiles/{profile.pk:05d}.icc", bytes(profile.data)
        yield (
            f"profiles/{profile.pk:05d}.json",
            _json(
                {
                    "title": profile.title,
                    "report": profile.report,
                    "settings": profile.settings,
                    "made_from": profile.made_from,
                }
            ),
        )
    for kept in KeptText.objects.order_by("pk").iterator(50):
        ending = "csv" if kept.kind == KeptText.Kind.CURVES else "txt"
        yield f"{kept.kind}/{kept.sha256[:20]}.{ending}", kept.text.encode()
    for chart in Chart.objects.order_by("pk").iterator(50):
        yield f"charts/{chart.pk:05d}.txt", chart.text.encode()
    for done in ReadingPass.objects.exclude(text="").order_by("pk").iterator(50):
        yield f"readings/print-{done.sheet_print_id:05d}-pass-{done.number}.txt", done.text.encode()
    for check in Check.objects.defer("diagnosis").order_by("pk").iterator(50):
        yield f"checks/{check.pk:05d}.txt", check.readings.encode()
    yield (
        "checks/checks.csv",
        _csv(
            ["id", "mode", "aim", "tolerances", "verdict", "summary", "made_at"],
            (
                [c.pk, c.mode_id, c.aim_name, c.tolerances, c.verdict, c.summary, c.made_at.isoformat()]
                for c in Check.objects.defer("readings", "result", "diagnosis").order_by("pk").iterator(200)
            ),
        ),
    )
    for aim in AimRecord.objects.order_by("pk"):
        yield (
            f"aims/{aim.pk:04d}-{aim.file_name or 'aim'}".replace("/", "_").replace("\\", "_"),
            bytes(aim.data),
        )
    yield (
        "tolerances.json",
        _json([{"key": t.key, "title": t.title, "data": t.data} for t in ToleranceRecord.objects.all()]),
    )
    for book in SpotLibrary.objects.prefetch_related("colours"):
        if colours := [s.colour for s in book.colours.all()]:
            name = "-".join("".join(c if c.isalnum() else " " for c in book.name).split())
            yield f"spot-colours/{book.pk:03d}-{name}.csv", spot_files.dumps(colours, "csv", book.name)
    for file in Attachment.objects.order_by("pk").iterator(10):
        yield (
            f"files/{file.pk:05d}-{''.join(c if c.isalnum() or c in '.-_ ' else '_' for c in file.name)}",
            bytes(file.data),
        )


def _json(data: Any) -> bytes:
    return json.dumps(data, indent=1, ensure_ascii=False, default=str).encode()


def _csv(heads: list[str], rows: Any) -> bytes:
    out = io.StringIO()
    writer = cells.Writer(out)
    writer.writerow(heads)
    writer.writerows(rows)
    return out.getvalue().encode()
