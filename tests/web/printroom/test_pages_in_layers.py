"""A page with spot colours on the light table: recipes, tiles, prices, a nudge that is only looked at."""

from __future__ import annotations

import io
import json
import re
import shutil

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.test import Client
from PIL import Image

from greyanchor.accounts.roles import acting
from greyanchor.core.artwork.inspection import edge_findings
from greyanchor.core.colour.colorimetry import lab_to_srgb
from greyanchor.demo.artwork import harbour_chart
from greyanchor.library.models import PrintMode
from greyanchor.printroom import files, intake, jobs, outcomes, preparing, rasters
from greyanchor.printroom.links import inks_of
from greyanchor.printroom.models import Artwork, Job
from greyanchor.printroom.recipes import spots_of
from greyanchor.profiles.models import SpotRecord

pytestmark = pytest.mark.skipif(shutil.which("gs") is None, reason="Ghostscript is not installed")
WATER = (68.0, -18.0, -26.0)


@pytest.fixture
def chart(user: User, mode: PrintMode, django_capture_on_commit_callbacks) -> Job:
    """The harbour chart in a shop that knows two of its three spot colours, on a mode."""
    for name, lab in (("SHOAL Blue", WATER), ("Land buff", (86.0, 3.0, 24.0))):
        SpotRecord.objects.create(name=name, lightness=lab[0], a=lab[1], b=lab[2])
    with django_capture_on_commit_callbacks(execute=True), acting(user):
        made, _ = intake.add(ContentFile(harbour_chart()), "chart.pdf", user)
    made = Artwork.objects.get(pk=made.pk)
    with acting(user):
        return jobs.make_job(made, user, mode)


def tile(client: Client, job: Job, view: str, **more: object) -> np.ndarray:
    answer = client.get(f"/jobs/{job.pk}/tile/{view}/2/0/2.png", more)
    assert answer.status_code == 200
    return np.array(Image.open(io.BytesIO(answer.content)).convert("RGB")).astype(int)


def test_each_level_is_the_mean_of_the_finer_one(chart: Job) -> None:
    means = [rasters.level(chart.artwork, 1, n).pixels().reshape(-1, 7).mean(axis=0) for n in range(3)]
    assert means[0][5] > 50, "the water is a plane of its own"
    assert np.abs(means[1] - means[0]).max() < 1.0 and np.abs(means[2] - means[0]).max() < 1.5
    small = np.array(Image.open(files.local(chart.artwork.thumbnail)).convert("RGB"))
    water = small[int(0.7 * len(small)), int(0.03 * small.shape[1])]
    assert np.abs(water - 255 * np.clip(lab_to_srgb([list(WATER)])[0], 0, 1)).max() < 12


def test_the_light_table_lists_recipes_and_shows_the_colour_itself(client: Client, chart: Job) -> None:
    found = {s.name: s for s in spots_of(chart.artwork, 1, chart.mode)}
    assert set(found) == {"Shoal blue", "Land buff", "Compass crimson"}
    assert found["Compass crimson"].ink is None and found["Shoal blue"].ink is not None
    page = client.get(f"/jobs/{chart.pk}/").content.decode()
    plain = re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page))
    solid = zip("CMYK", found["Shoal blue"].ink.device[-1])
    recipe = " ".join(f"{c} {100 * v:.0f}" for c, v in solid if v >= 0.005)
    assert f"Shoal blue {recipe}" in plain
    assert "Compass crimson none: printed as" in plain
    assert found["Shoal blue"].ink.difference < 1.0, "this printer has that colour"
    water = tile(client, chart, "art")[128, 60]
    assert np.abs(water - 255 * np.clip(lab_to_srgb([list(WATER)])[0], 0, 1)).max() <= 3
    printed = tile(client, chart, "print")[128, 60]
    assert np.abs(printed - water).max() <= 6


def test_a_colour_that_the_library_learns_later_is_used_from_then_on(chart: Job) -> None:
    before = rasters.level(chart.artwork, 1, 2)
    SpotRecord.objects.create(name="Compass crimson", lightness=40.0, a=60.0, b=10.0)
    after = rasters.level(chart.artwork, 1, 2)
    assert before.spots == ("Land buff", "Shoal blue")
    assert after.spots == ("Compass crimson", "Land buff", "Shoal blue")


def test_a_nudge_is_looked_at_and_leaves_the_job_alone(client: Client, chart: Job) -> None:
    plain = tile(client, chart, "print")
    lighter = tile(client, chart, "print", lightness="8", contrast="0", ink_C="")
    assert (lighter - plain).mean() > 0.3 and Job.objects.get(pk=chart.pk).choices == {}
    assert client.get(f"/jobs/{chart.pk}/tile/print/2/0/2.png?lightness=900").status_code == 404


def test_the_print_holds_the_recipe(chart: Job, user: User, django_capture_on_commit_callbacks) -> None:
    import tifffile

    with django_capture_on_commit_callbacks(execute=True), acting(user):
        chart = jobs.change(chart, {"width_mm": 60.0}, chart.version)
        (made,) = preparing.order_print_files(chart, user)
    made.refresh_from_db()
    assert made.state == "done", made.message
    recipe = next(s.ink for s in spots_of(chart.artwork, 1, chart.mode) if s.name == "Shoal blue").device[-1]
    with tifffile.TiffFile(files.local(made.file)) as planes:
        for page, wanted in zip(planes.pages, inks_of(chart.mode).printed(recipe[None])[0]):
            bits = page.asarray()
            tall, wide = bits.shape
            water = bits[int(0.72 * tall) : int(0.78 * tall), int(0.03 * wide) : int(0.2 * wide)]
            assert abs(float((water != 0).mean()) - wanted) < 0.02


def test_cost_is_said_where_both_prices_are_kept(client: Client, chart: Job, mode: PrintMode) -> None:
    assert outcomes.outcome(chart, mode).cost is None
    mode.ink_set.price, mode.media.price = 100.0, 8.0
    mode.ink_set.save()
    mode.media.save()
    found = outcomes.outcome(Job.objects.get(pk=chart.pk), PrintMode.objects.get(pk=mode.pk))
    assert found.cost == pytest.approx(found.total_ml / 10.0 + 0.42 * 0.297 * 8.0)
    assert f"{found.cost:.2f}" in client.get(f"/jobs/{chart.pk}/modes/").content.decode()


def test_the_worst_colours_have_their_places(
    client: Client, artwork: Artwork, mode: PrintMode, user: User
) -> None:
    with acting(user):
        job = jobs.make_job(artwork, user, mode, choices={"crop": [0.25, 0.0, 0.75, 1.0], "quarters": 1})
    page = client.get(f"/jobs/{job.pk}/outcome/").content.decode()
    rows = [json.loads(r.replace("&quot;", '"')) for r in re.findall(r'data-places="([^"]*)"', page)]
    facts = outcomes.outcome(job, mode).facts["worst"]
    assert len(rows) == len(facts) > 0
    picture = rasters.level(artwork, 1, 0).pixels() / 255.0
    link_of_picture = rasters.as_it_comes(rasters.level(artwork, 1, 0), artwork, 1)
    assert link_of_picture.shape == picture.shape
    for places, worst in zip(rows, facts):
        left, top, wide, tall = places[0]
        assert left >= 0.249 and left + wide <= 1.001 and top >= 0.0 and top + tall <= 1.001
        rows_, columns = picture.shape[:2]
        inside = link_of_picture[
            round(top * rows_) : max(round((top + tall) * rows_), 1 + round(top * rows_)),
            round(left * columns) : max(round((left + wide) * columns), 1 + round(left * columns)),
        ].reshape(-1, 3)
        asked = 255 * np.clip(lab_to_srgb([worst["asked"]])[0], 0, 1)
        assert np.abs(inside - asked).max(axis=1).min() < 30, "a pixel of that colour lies in it"


def test_a_contour_near_the_edge_keeps_a_margin(user: User, chart: Job) -> None:
    assert "margin_mm" not in chart.choices, "its contour lies 4 mm inside"
    facts = chart.artwork.facts
    facts["pages"][0]["contours"] = {"CutContour": [[[0.002, 0.5], [0.5, 0.998], [0.998, 0.5], [0.5, 0.002]]]}
    with acting(user):
        near = jobs.make_job(chart.artwork, user, chart.mode)
        chosen = jobs.make_job(chart.artwork, user, chart.mode, choices={"margin_mm": 0.0})
    assert near.choices["margin_mm"] == 2.5 and "margin_mm" not in chosen.choices


def test_art_that_touches_its_edge_is_said_to(chart: Job, artwork: Artwork) -> None:
    assert not [f for f in chart.artwork.findings if "touches its edge" in f["text"]], "it has bare borders"
    assert [f for f in artwork.findings if "touches its edge all round" in f["text"]]
    page = np.full((40, 60, 3), 255, np.uint8)
    page[:, 50:] = 90
    (found,) = edge_findings(page, "rgb")
    assert found.text == "its art touches its edge on the right, the top, the bottom"
    assert edge_findings(np.full((9, 9, 4), 0, np.uint8), "cmyk") == []
