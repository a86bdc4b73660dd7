"""The baseline of a mode: the short chart on the day its curves were accepted."""

from __future__ import annotations

from greyanchor.builds.models import Baseline, Stage
from greyanchor.builds.stages.names import LINEARIZATION
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.calibration.restore import baseline_from_ramps, short_chart
from greyanchor.core.charts.layout import lay_out
from greyanchor.measuring.models import written
from greyanchor.measuring.pipelines import channels_of
from greyanchor.measuring.services import averaged


def take_baseline(stage: Stage) -> Baseline | None:
    """Keep the baseline of accepted curves: the confirming print of a linearization, or what its ramps
    predict.

    Curves of grey balance are predicted from the same ramps. Curves made by eye have no readings, and so no
    baseline.
    """
    ramps = stage.build.stages.get(kind=LINEARIZATION)
    result = stage.result or {}
    if "curves_csv" not in result or ramps.sheet_print is None:
        return None
    curves = CurveSet.from_csv(result["curves_csv"], "accepted curves")
    second = stage.confirm_print if stage.pk == ramps.pk and "confirm" in result else None
    if second is not None:
        readings = averaged(second)
    else:
        inks = channels_of(stage.build.mode.ink_set)
        chart, _ = lay_out(short_chart(len(inks)), inks, shuffle_seed=3)
        readings = baseline_from_ramps(averaged(ramps.sheet_print), curves, chart)
    made, _ = Baseline.objects.update_or_create(
        mode=stage.build.mode,
        defaults={
            "text": written(readings),
            "curves": result["curves_csv"],
            "environment_hash": stage.build.environment_hash,
            "confirmed": second is not None,
            "withdrawn": "",
        },
    )
    return made
