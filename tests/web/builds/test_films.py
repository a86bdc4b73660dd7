"""A film mode from frozen environment to release, drifted and restored, and what it refuses."""

from __future__ import annotations

import re
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse

from greyanchor.builds.evidence.charts import lay_out_confirmation
from greyanchor.builds.evidence.curve_edits import choose
from greyanchor.builds.lifecycle.start import renew, start_build
from greyanchor.builds.maintenance.restores import print_confirmation, start_restore, use_curves
from greyanchor.builds.models import Build
from greyanchor.builds.stages.registry import stage_types, type_of
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.colour.transmission import STATUS
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.demo.devices import drift
from greyanchor.library.models import InkSet, Media, MediaClass, Printer, PrintMode
from greyanchor.measuring.queries import double_reading
from greyanchor.measuring.services import averaged, calibrate_white, read_row, start_pass
from greyanchor.measuring.uploads import take_upload
from tests.web.conftest import CHOICES, accept, read_print, read_stage, stage_of

SCREEN = "am:lpi=60,dot=round"


@pytest.fixture
def film(db: None) -> Media:
    return Media.objects.create(
        name="Clearwater Film 125",
        media_class=MediaClass.objects.create(name="clear film", family="film"),
        maker="Sound & Shoal",
        weight=165,
        thickness=125,
        width_mm=914,
        brightener="none",
    )


@pytest.fixture
def inks(printer: Printer) -> InkSet:
    made = InkSet.objects.create(
        name="Tarn pigment, films",
        channels=["K"],
        light={"Y": "K"},
        facts={"K": {"role": "film"}, "Y": {"role": "opacity"}},
        kind="aqueous",
    )
    printer.ink_sets.add(made)
    return made


@pytest.fixture
def started(printer: Printer, inks: InkSet, film: Media, user: User) -> Build:
    choices = {**CHOICES, "screen": SCREEN}
    return start_build("Film", printer, inks, film, choices, user)


def found_values(build: Build, kind: str) -> dict[str, Any]:
    stage = stage_of(build, kind)
    return type_of(stage).found_values(stage)


@pytest.fixture
def released(started: Build, user: User) -> PrintMode:
    read_stage(started, "film-opacity", user)
    accept(started, "film-opacity", user, found_values(started, "film-opacity"))
    read_stage(started, "film-dots", user)
    read_print(lay_out_confirmation(stage_of(started, "film-dots")), user)
    accept(started, "film-dots", user, {})
    accept(started, "release", user, {"note": ""})
    return PrintMode.objects.get(name="Film")


def test_a_build_of_films_has_its_own_stages(started: Build) -> None:
    assert [s.kind for s in started.stages.order_by("position")] == ["film-opacity", "film-dots", "release"]
    others = [t for t in stage_types() if t.films is False]
    assert not any(t.serves(started.mode.ink_set) for t in others)
    assert started.print_environment.label().endswith("film, 60 lines an inch, round")


def test_from_environment_to_release(released: PrintMode, client: Client) -> None:
    assert released.state == "released" and released.profile is None
    film = released.film
    assert film["which"] == "UV" and 3.5 <= film["density"] < 3.7
    assert film["mean"] <= 0.6 and film["max"] <= 1.5 and film["solid_uv"] >= 3.4
    curves = CurveSet.from_csv(released.curves, "film")
    assert abs(100 * curves.limits["K"] - released.limits["K"]) < 0.01
    middle = float(curves.apply([[0.5]])[0, 0]) / curves.limits["K"]
    assert 0.38 < middle < 0.49  # dots grow, so that smaller ones are asked for
    page = client.get(f"/modes/{released.pk}/").content.decode()
    assert "Film screen" in page
    build = released.builds.get()
    for kind, words in (("film-opacity", "is opaque"), ("film-dots", "Dots are true.")):
        assert words in client.get(reverse("stage-part", args=[build.pk, kind])).content.decode()
    rules = {e["rule"]: e["ok"] for e in released.editions.get().evidence}
    assert "of density" in released.editions.get().evidence[0]["text"]
    assert rules == {"double reading": True, "opacity": True, "dots": True}


def test_readings_are_densities_and_go_out_and_in_as_text(started: Build, user: User) -> None:
    stage = read_stage(started, "film-opacity", user, passes=1)
    text = stage.sheet_print.passes.get().text
    assert "D_VIS\tD_UV" in text and STATUS in text and "LAB_L" not in text
    read = cgats.loads(text)
    assert read.condition == "T" and read.densities is not None and read.lab()[:, 1].max() < 0.01
    again = read.densities + 0.004
    moved = cgats.dumps(type(read)(**{**vars(read), "densities": again}))
    taken = take_upload(stage.sheet_print, moved.encode(), "film.txt", user)
    assert taken.number == 2 and averaged(stage.sheet_print).densities is not None


def test_a_solid_read_as_less_opaque_is_seen_though_its_colour_is_the_same(
    started: Build, user: User, client: Client
) -> None:
    stage = read_stage(started, "film-opacity", user, passes=2)
    found = double_reading(stage.sheet_print)
    assert found is not None and found.acceptable() and found.within.endswith("of density")
    assert found.films is not None and 0.0 < found.films.largest < 0.2
    first = stage.sheet_print.passes.earliest("number").readings
    wrong = first.densities.copy()
    dense = int(wrong[:, 1].argmax())
    wrong[dense] -= 0.4
    third = cgats.dumps(type(first)(**{**vars(first), "densities": wrong + 0.001}))
    take_upload(stage.sheet_print, third.encode(), "third.txt", user)
    seen = double_reading(stage.sheet_print)
    assert seen is not None and seen.max < 2.0, "no colour tells it"
    assert not seen.acceptable() and seen.films.patch == first.ids[dense]
    assert seen.films.difference == pytest.approx(0.4, abs=0.1)
    assert any(first.ids[dense] in line and "density" in line for line in seen.advice())
    with pytest.raises(BadInput, match="the passes differ: 0.[345]. of"):
        accept(started, "film-opacity", user, found_values(started, "film-opacity"))
    page = client.get(reverse("stage-part", args=[started.pk, "film-opacity"])).content.decode()
    assert "The passes differ" in re.sub(r"\s+", " ", page) and "densities within" in page


def test_a_print_and_a_film_are_not_taken_for_one_another(
    started: Build, printer: Printer, inks: InkSet, media: Media, user: User
) -> None:
    plain = printer.ink_sets.exclude(pk=inks.pk).get()
    build = start_build("Print", printer, plain, media, CHOICES, user)
    film, paper = (stage_of(b, k).sheet_print for b, k in ((started, "film-opacity"), (build, "ink-limits")))
    read_print(paper, user, 1)
    colours = paper.passes.get().text
    with pytest.raises(BadInput, match="read by the light it lets through"):
        take_upload(film, colours.encode(), "paper.txt", user)
    read_print(film, user, 1)
    with pytest.raises(BadInput, match="transmission densities of a film"):
        take_upload(paper, film.passes.get().text.encode(), "film.txt", user)


def test_read_by_the_densitometer_row_by_row(started: Build, user: User) -> None:
    from greyanchor.measuring.printing import dry_at_once, print_sheet

    job = print_sheet(stage_of(started, "film-opacity").sheet_print.pk, user)
    dry_at_once(job.pk)
    current = start_pass(job, user)
    assert "densitometer" in current.source and current.condition == "T"
    said = read_row(current.pk, 1)
    assert not said.kept and "zero" in said.message
    calibrate_white(current.pk)
    kept = 0
    for row in sorted(set(job.chart.patches.rows.tolist())):
        kept += any(read_row(current.pk, row).kept for _ in range(3))
    current.refresh_from_db()
    assert current.state == "done" and kept == len(set(job.chart.patches.rows.tolist()))


def test_more_is_asked_for_and_the_other_ink_helps(started: Build, user: User) -> None:
    stage = read_stage(started, "film-opacity", user)
    before = stage.result["limit"]
    assert stage.result["reached"]
    choose(stage, {"asked": "4.0", "which": "UV"})
    stage = stage_of(started, "film-opacity")
    assert stage.result["asked"] == 4.0 and (stage.result["share"] > 0 or not stage.result["reached"])
    assert stage.result["limit"] > before
    choose(stage, {"asked": "6", "which": "UV"})
    stage = stage_of(started, "film-opacity")
    assert not stage.result["reached"] and "not reached" in stage.result["reason"]
    against = type_of(stage).objections(stage, type_of(stage).found_values(stage))
    assert "6 is asked for" in against[0]


def test_the_log_is_shown_at_every_step(started: Build, user: User, client: Client) -> None:
    def page() -> str:
        answer = client.get(f"/builds/{started.pk}/")
        assert answer.status_code == 200
        return str(answer.content.decode())

    assert "Opacity" in page()
    read_stage(started, "film-opacity", user)
    assert "is opaque" in page() and "Density asked for" in page()
    accept(started, "film-opacity", user, found_values(started, "film-opacity"))
    read_stage(started, "film-dots", user, passes=1)
    assert "Straight" in page() and "Lay out the confirming chart" in page()
    read_print(lay_out_confirmation(stage_of(started, "film-dots")), user)
    assert "Dots are true." in page()


def test_physical_dots_by_measured_pairs(started: Build, user: User) -> None:
    read_stage(started, "film-opacity", user)
    accept(started, "film-opacity", user, found_values(started, "film-opacity"))
    stage = read_stage(started, "film-dots", user)
    optical = CurveSet.from_csv(stage.result["curves_csv"], "x").apply([[0.5]])[0, 0]
    choose(stage, {"physical": "50 45"})
    physical = CurveSet.from_csv(stage_of(started, "film-dots").result["curves_csv"], "x").apply([[0.5]])[
        0, 0
    ]
    assert physical > optical  # smaller dots are seen, so larger ones are asked for
    with pytest.raises(BadInput, match="rise from 0 to 100"):
        choose(stage, {"physical": "50 45; 60 40"})


def test_drifted_and_restored(released: PrintMode, user: User, client: Client) -> None:
    drift(released.printer, {"K": 0.93, "Y": 0.95})
    before = released.limits["K"]
    found = start_restore(released, user)
    read_print(found.sheet_print, user)
    found.refresh_from_db()
    assert found.drift["solid_now"] < found.drift["solid_was"] - 0.15
    assert any("UV density" in word for word in found.drift["words"])
    page = client.get(f"/restores/{found.pk}/").content.decode()
    assert "dots off, mean" in page and "Hue dH" not in page
    read_print(print_confirmation(found), user)
    found.refresh_from_db()
    assert found.after["mean"] < 0.6 and abs(found.after["solid_now"] - found.drift["solid_was"]) < 0.12
    use_curves(found, "", user)
    released.refresh_from_db()
    assert released.limits["K"] > before * 1.03 and released.film["solid_uv"] == found.after["solid_now"]
    assert released.editions.count() == 2
    with pytest.raises(BadInput, match="prints films: restore it"):
        renew(released, "limits", user)
    page = client.get(f"/modes/{released.pk}/").content.decode()
    solid = f"{found.drift['solid_now']:.2f} to {found.after['solid_now']:.2f}"
    assert solid in page and "Found, % of dots" in page and "dE00<" not in page
    assert "mean % of dots to the baseline" in page
    assert "Check it now" not in page and "Refining prints" not in page and "Refine limits only" not in page
    faster = client.get(f"/modes/{released.pk}/branch/faster/").content.decode()
    assert "<li>Opacity</li>" in faster and "<li>Dots</li>" in faster and "Grey balance" not in faster


def test_what_a_film_cannot_be_begun_with(printer: Printer, inks: InkSet, film: Media, user: User) -> None:
    with pytest.raises(BadInput, match="say through which screen"):
        start_build("A", printer, inks, film, CHOICES, user)
    plain = printer.ink_sets.exclude(pk=inks.pk).get()
    with pytest.raises(BadInput, match="prints no films"):
        start_build("B", printer, plain, film, {**CHOICES, "screen": SCREEN}, user)
    with pytest.raises(BadInput, match="10 to 200"):
        start_build("C", printer, inks, film, {**CHOICES, "screen": "am:lpi=900,dot=round"}, user)
    inks.light = {}
    inks.channels = ["K", "Y"]
    assert "a film has one channel" in inks.not_built
