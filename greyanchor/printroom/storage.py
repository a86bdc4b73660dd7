"""What grows here: artwork, pictures of it, print files, and pictures of prints.

What was printed keeps its record, its ticket and its picture; the file that was sent can be made again from
the artwork, which stays as long as a job of it does.
"""

from __future__ import annotations

from collections.abc import Iterator

from django.conf import settings

from greyanchor.background import growth
from greyanchor.printroom import files
from greyanchor.printroom.models import Artwork, Print, PrintFile

_OPEN = (PrintFile.State.QUEUED, PrintFile.State.RUNNING)


def _used(*folders: str) -> tuple[int, int]:
    found = [growth.size_of(growth.files_below(settings.MEDIA_ROOT / f)) for f in folders]
    return sum(n for n, _ in found), sum(size for _, size in found)


def _print_files() -> Iterator[growth.Thing]:
    """Those whose every print is over, or that were never printed."""
    found = PrintFile.objects.exclude(state__in=_OPEN).exclude(file="")
    for record in found.exclude(prints__in=Print.objects.exclude(state__in=Print.OVER)).defer("facts"):
        path = files.local(record.file)
        if path.is_file():
            last = record.prints.order_by("-sent_at").values_list("sent_at", flat=True).first()
            since = max(record.heard_at, last or record.heard_at)
            yield growth.Thing(path.stat().st_size, since, lambda r=record: _without_file(r), path)


def _without_file(record: PrintFile) -> None:
    name = record.file
    PrintFile.objects.filter(pk=record.pk).update(file="")
    files.remove(name)


def _missing_files() -> None:
    """Print files that a backup did not hold are prepared again when somebody asks for them."""
    for record in PrintFile.objects.exclude(file="").only("file"):
        if not files.local(record.file).is_file():
            PrintFile.objects.filter(pk=record.pk).update(file="")


def _artwork() -> Iterator[growth.Thing]:
    """Artwork that no job, and so no print, is of."""
    for record in Artwork.objects.filter(jobs=None).exclude(state__in=_OPEN).defer("facts"):
        yield growth.Thing(record.size, record.heard_at, lambda r=record: _forget(r))


def _forget(record: Artwork) -> None:
    if record.jobs.exists():
        return
    record.delete()
    for name in (record.file, record.raster, record.thumbnail):
        if name:
            files.remove(name)


growth.register(
    growth.Store(
        "artwork", "Artwork", "artwork with a job stays, printed or not", lambda: _used("artwork"),
        "artwork_days", _artwork,
    )
)  # fmt: skip
growth.register(
    growth.Store(
        "pictures", "Pictures to look at artwork", "made again when somebody looks",
        lambda: _used("rasters"), "pictures_days",
        lambda: growth.old_files(growth.files_below(settings.MEDIA_ROOT / "rasters")),
    )
)  # fmt: skip
growth.register(
    growth.Store(
        "print-files", "Print files", "made again from the artwork; what was printed keeps its record",
        lambda: _used("print-files"), "print_files_days", _print_files, again=True, missed=_missing_files,
    )
)  # fmt: skip
growth.register(
    growth.Store(
        "prints", "Pictures of what was printed, and plates", "evidence: they stay",
        lambda: _used("prints", "plates"),
    )
)  # fmt: skip
