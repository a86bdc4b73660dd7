"""Background tasks."""

from __future__ import annotations

from greyanchor.background import queue, work
from greyanchor.colours import recipes
from greyanchor.colours.models import RecipeWork
from greyanchor.profiles.models import SpotRecord

#: colours that are solved, and kept, at once
_PORTION = 250


@queue.handles(RecipeWork)
def find_recipes_of_a_book(pk: int) -> None:
    """Find the recipe of every colour of a book that has none; what was found stays where it is stopped."""
    job = RecipeWork.objects.select_related("library", "mode__profile").get(pk=pk)
    report = work.progress_of(RecipeWork, pk)
    colours = list(SpotRecord.objects.filter(library=job.library))
    for start in range(0, len(colours), _PORTION):
        report(start / max(len(colours), 1), f"{start} of {len(colours)} colours")
        recipes.find(job.mode, colours[start : start + _PORTION], job.started_by)
    work.end(RecipeWork, pk, RecipeWork.State.DONE, f"{len(colours)} colours have their recipe")
