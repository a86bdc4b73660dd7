"""Media that no instrument reads: a build by eye."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from django.contrib.auth.models import User
from django.test import Client

from greyanchor.builds.models import Baseline, Build
from greyanchor.builds.stages import matching
from greyanchor.builds.stages.ink_limits import RAMP_STEPS
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.colour.colorimetry import spectra_to_xyz
from greyanchor.core.colour.density import sctv
from greyanchor.core.simulation.catalogue import press_for
from greyanchor.core.simulation.faults import severity
from greyanchor.library.models import PrintMode
from tests.web.conftest import (
    accept,
    found_limits,
    read_stage,
    stage_of,
)


def test_the_total_is_the_smaller_of_eye_and_reading(
    client: Client, up_to: Callable[[str], Build], user: User
) -> None:
    build = up_to("total-ink")
    by_reading = read_stage(build, "total-ink", user, 1).result
    assert {o["name"] for o in by_reading["overprints"]} >= {"all", "C+M+Y", "C+M", "M+Y", "C+K"}
    assert client.get(f"/builds/{build.pk}/total-ink/picture/C+M+Y.png").content.startswith(b"\x89PNG")
    client.post(f"/builds/{build.pk}/total-ink/marks/", {"all|slow drying": "220", "C+M|bleed": "160"})
    found = stage_of(build, "total-ink").result
    assert found["percent"] == 220 and found["by"] == "slow drying" and "by reading" in found["reason"]
    assert next(o for o in found["overprints"] if o["name"] == "C+M")["eye"] == 160

    def consequence(total: float) -> str:
        return client.get(
            f"/builds/{build.pk}/total-ink/cost/", {"total-ink-total_ink": total}
        ).content.decode()

    assert "7 min" in consequence(150) or "8 min" in consequence(150), (
        "half the usual film dries in a quarter"
    )
    assert "Gamut kept" in consequence(300) and "ml/m²" in consequence(300)


def last_good(build: Build, channel: str, fault: str) -> str:
    """What a person sees in the picture: the last step whose fault stays under what is seen."""
    raw = np.zeros((len(RAMP_STEPS), 4))
    raw[:, "CMYK".index(channel)] = np.array(RAMP_STEPS) / 100.0
    bad = severity(press_for(build.print_environment), raw)[fault]
    good = [s for s, b in zip(RAMP_STEPS, bad) if b < 0.15]
    return "" if len(good) == len(RAMP_STEPS) else str(good[-1])


def test_a_build_by_eye_from_marks_to_curves(client: Client, mesh_build: Build, user: User) -> None:
    build = mesh_build
    page = client.get(f"/builds/{build.pk}/").content.decode()
    assert "mark the last good step" in page and "Print on Petrel 44" not in page
    marks = {f"{c}|{f}": last_good(build, c, f) for c in "CMYK" for f in ("bleed", "cockling", "haze")}
    client.post(f"/builds/{build.pk}/ink-limits/marks/", marks)
    stage = stage_of(build, "ink-limits")
    assert stage.result["limits"]["C"]["percent"] == min(
        float(v) for k, v in marks.items() if k[0] == "C" and v
    )
    accept(build, "ink-limits", user, {**found_limits(stage), "splits": []})
    press = press_for(build.print_environment)
    limits = {c: v["percent"] / 100 for c, v in stage.result["limits"].items()}
    assert 'href="/builds/' in client.get(f"/builds/{build.pk}/").content.decode()
    for i, channel in enumerate("CMYK"):
        assert client.get(f"/builds/{build.pk}/linearization/match/{channel}/").status_code == 200
        form: dict[str, str] = {}

        def xyz(raw: float, i: int = i) -> np.ndarray:
            device = np.zeros((1, 4))
            device[0, i] = raw
            return spectra_to_xyz(press.spectra(device))[0]

        paper, solid = xyz(0.0), xyz(limits[channel])
        for pair in matching.pairs(build)[channel]:
            wanted = float(sctv((1 - pair.coverage) * paper + pair.coverage * solid, paper, solid))
            tones = np.array([float(sctv(xyz(s), paper, solid)) for s in pair.steps])
            best = pair.steps[int(np.abs(tones - wanted).argmin())]
            form |= {f"{pair.tone:g}|{r}": f"{100 * best:.2f}" for r in range(matching.REPEATS)}
        client.post(f"/builds/{build.pk}/linearization/match/{channel}/", form)
    stage = stage_of(build, "linearization")
    assert set(stage.result["sure"]) == set("CMYK") and max(stage.result["sure"].values()) < 15
    curves = CurveSet.from_csv(stage.result["curves_csv"])
    for i in range(4):
        ramp = np.zeros((11, 4))
        ramp[:, i] = np.linspace(0, 1, 11)
        seen = spectra_to_xyz(press.spectra(curves.apply(ramp)))
        straight = spectra_to_xyz(press.spectra(CurveSet.straight(limits).apply(ramp)))
        off = np.abs(sctv(seen, seen[0], seen[-1]) - 100 * ramp[:, i]).mean()
        before = np.abs(sctv(straight, straight[0], straight[-1]) - 100 * ramp[:, i]).mean()
        assert off < 0.6 * before
    accept(build, "linearization", user, {})
    assert not Baseline.objects.filter(mode=build.mode).exists()
    client.post(f"/builds/{build.pk}/total-ink/marks/", {"all|slow drying": "240"})
    accept(build, "total-ink", user, {"total_ink": 240.0})
    assert PrintMode.objects.get(pk=build.mode_id).total_ink == 240


def test_a_match_that_is_no_step_is_refused(client: Client, mesh_build: Build, user: User) -> None:
    client.post(f"/builds/{mesh_build.pk}/ink-limits/marks/", {"C|bleed": "60"})
    accept(mesh_build, "ink-limits", user, {**found_limits(stage_of(mesh_build, "ink-limits")), "splits": []})
    page = client.post(f"/builds/{mesh_build.pk}/linearization/match/C/", {"0.5|0": "13.37"}, follow=True)
    assert "no step of its pair" in page.content.decode()
