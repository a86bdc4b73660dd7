"""What a round of refining does in the background: learn from its print, and build the corrected profile."""

from __future__ import annotations

from django.db import transaction

from greyanchor.background import work
from greyanchor.builds.models import RefineRound
from greyanchor.core.profiling import refine
from greyanchor.core.profiling.build import build_from_model
from greyanchor.measuring.services import averaged
from greyanchor.profiles import queries
from greyanchor.profiles.services import keep_profile
from greyanchor.profiles.settings import settings_from


def learn(pk: int) -> None:
    """Correct the model by all rounds so far and build a profile of it, unless what is left is noise."""
    found = RefineRound.objects.select_related("refinement__base", "through", "started_by").get(pk=pk)
    made = found.refinement
    report = work.progress_of(RefineRound, pk)
    report(0.02, "learning from the print")
    rounds = made.rounds.filter(number__lte=found.number).select_related("sheet_print").order_by("number")
    prints = [averaged(r.sheet_print) for r in rounds]
    model, round_ = refine.learn(queries.model_of(made.base), queries.parsed(found.through), prints)
    result = {
        "patches": round_.patches,
        "off": round_.off.as_dict(),
        "expected": round_.expected.as_dict(),
        "noise": round_.noise,
        "at_noise": round_.at_noise,
        "helps": round_.helps,
    }
    after = None
    if round_.helps:
        options = {**queries.separation_options(made.base), **made.base.settings}
        title = f"{made.base.title}, refined {found.number}"
        settings = settings_from({**options, "title": title}, title)
        built = build_from_model(model, queries.readings_of(made.base), settings, report)
        built.report["held_out"] = round_.expected.as_dict()
        made_from = {**made.base.made_from, "refined": found.number}
        with transaction.atomic():
            after = keep_profile(
                built, title, settings.version, options, made_from, found.started_by, found.through
            )
    with transaction.atomic():
        RefineRound.objects.filter(pk=pk).update(result=result, after=after)
        work.end(RefineRound, pk, RefineRound.State.DONE, "done")
