"""What the worker does with packs."""

from __future__ import annotations

from greyanchor.background import queue
from greyanchor.library.models import PackExport, PackImport
from greyanchor.library.packs import exporting, importing

queue.handles(PackImport)(importing.carry_on)
queue.handles(PackExport)(exporting.write)
