"""A printer that writes the sheets of a chart into a folder, where the printer's own program picks them
up.
"""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

from greyanchor.core.charts import sheet_pdf, sheets
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.devices.ports import PrintTicket

_PLAIN = re.compile(r"[^A-Za-z0-9]+")


class FolderPrinter:
    """Writes ``NUMBER-TITLE/`` with sheets.tif, sheets.pdf, chart.txt and print.json, whole or not at all."""

    name = "folder printer"

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def print_chart(self, chart: ReadingSet, environment: PrintEnvironment, number: int) -> PrintTicket:
        title = _PLAIN.sub("-", chart.meta.get("DESCRIPTOR", "chart")).strip("-")[:60]
        name = f"{number}-{title}"
        target, partial = self._folder / name, self._folder / f".{name}.part"
        if target.exists():
            raise BadInput(f"{name} is in the folder already; print the chart again under another number")
        facts = {"number": number, "environment": environment.as_dict(), "channels": list(chart.channels)}
        try:
            partial.mkdir(parents=True, exist_ok=False)
            (partial / "sheets.tif").write_bytes(sheets.tiff(chart))
            (partial / "sheets.pdf").write_bytes(sheet_pdf.pdf(chart))
            (partial / "chart.txt").write_text(cgats.dumps(chart), encoding="utf-8")
            (partial / "print.json").write_text(json.dumps(facts, indent=1), encoding="utf-8")
            partial.replace(target)
        except OSError as error:
            raise BadInput(
                f"the sheets cannot be written to {self._folder}: {error.strerror or error}"
            ) from error
        finally:
            shutil.rmtree(partial, ignore_errors=True)
        return PrintTicket(self.name, {"number": number, "folder": name})
