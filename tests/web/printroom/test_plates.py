"""Plates of a job: looked at, made, laid on film, printed and recorded; screens enlarged."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
import tifffile
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from django.test import Client
from PIL import Image

from greyanchor.accounts.roles import acting
from greyanchor.background import queue
from greyanchor.core.calibration.curves import INPUTS, CurveSet
from greyanchor.core.calibration.press_gain import PressGain, gain_from_strip
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.demo.artwork import crew_shirt
from greyanchor.library.models import DeviceConnection, InkSet, Media, Printer, PrintMode
from greyanchor.library.records.editions import keep_edition
from greyanchor.printroom import files, intake, jobs, plate_choices, plates, preparing, prints, run_preparing
from greyanchor.printroom.models import Artwork, Job, PlateSet, Print
from tests.devices.conftest import Running
from tests.web.conftest import CHOICES
from tests.web.printroom.test_prints import swept
from tests.web.test_packs import bring, packed

SPOTS = ["Underbase White", "Beacon Yellow", "Buoy Red", "Kelp Green", "Deep Water Blue", "Outline Black"]
DPI = 360


@pytest.fixture
def film_mode(printer: Printer, media: Media, user: User) -> PrintMode:
    """A released film mode whose dots grow, at a resolution that tests have time for."""
    inks = InkSet.objects.create(
        name="Tarn pigment, films",
        channels=["K"],
        light={"Y": "K"},
        facts={"K": {"role": "film"}, "Y": {"role": "opacity"}},
        kind="aqueous",
    )
    printer.ink_sets.add(inks)
    choices = {**CHOICES, "resolution": DPI, "screen": "am:lpi=30,dot=round"}
    environment = PrintEnvironment(printer=printer.model, ink_set=inks.name, media=media.name, **choices)
    even = np.linspace(0.0, 1.0, INPUTS)
    curve = CurveSet(("K",), (0.8 * (even - 0.25 * even * (1.0 - even)))[None])
    made = PrintMode(
        name="Film, 30 lines",
        printer=printer,
        ink_set=inks,
        media=media,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        limits={"K": 80.0, "Y": 20.0},
        splits=[{"parent": "K", "alongside": "Y", "share": 0.25}],
        film={"which": "UV", "asked": 3.5, "density": 3.55, "mean": 0.2, "max": 0.6},
        state=PrintMode.State.RELEASED,
    )
    made.curves = curve.to_csv()
    made.save()
    keep_edition(made, [], user)
    return made


@pytest.fixture
def shirt(user: User) -> Job:
    with acting(user):
        artwork, _ = intake.add(ContentFile(crew_shirt()), "shirt.pdf", user)
        queue.run(artwork)
        artwork.refresh_from_db()
        return jobs.make_job(artwork, user)


def ink_of(path: Path) -> np.ndarray:
    return np.asarray(tifffile.imread(path)).astype(bool)


def made(job: Job, mode: PrintMode | None, user: User, **values: object) -> PlateSet:
    record = plates.order_plates(job, mode, values, user)
    queue.run(record)
    record.refresh_from_db()
    return record


def test_a_job_is_looked_at_before_it_is_made(shirt: Job, film_mode: PrintMode, client: Client) -> None:
    page = client.get(f"/jobs/{shirt.pk}/plates/")
    found = page.context["found"]
    # white first, then from light to dark, each in the colour that the file gives it
    assert [p.ink for p in found.plates][:2] == ["Underbase White", "Beacon Yellow"]
    assert [p.ink for p in found.plates][-1] == "Outline Black"
    assert {p.ink for p in found.plates} == set(SPOTS) and len({p.colour for p in found.plates}) == 6
    assert len({round(p.asked) for p in found.plates}) == 4 and not found.warnings
    assert all(abs(p.frequency / 30.0 - 1.0) < 0.005 for p in found.plates)
    text = page.content.decode()
    assert "Make 6 plates for Film, 30 lines" in text and "UV density" in text
    whole = client.get(page.context["picture"])
    alone = client.get(page.context["picture"] + "&ink=Buoy+Red")
    assert whole.status_code == alone.status_code == 200
    red = np.asarray(Image.open(io.BytesIO(alone.content))).reshape(-1, 3).astype(int)
    assert (red[:, 0] > red[:, 1] + 60).sum() > 500 and not (red[:, 2] > red[:, 0] + 30).any()


def test_what_the_form_chose_is_what_is_made(shirt: Job, film_mode: PrintMode, client: Client) -> None:
    query = {
        "film": "", "resolution": "300", "kind": "am", "lpi": "25", "dot": "ellipse", "centre": "hole",
        "least": "3", "most": "97", "break": "1", "angle:Buoy Red": "22,5", "choke:Underbase White": "0.5",
        "gain:Kelp Green": "50 64; 75 85", "screen:Underbase White": "blue-noise:smallest=2",
        "order:Buoy Red": "1", "trap": "0.25", "overprint": "black",
        "fold": "Beacon Yellow", "has_switches": "1", "negative": "on",
    }  # fmt: skip
    answer = client.post(f"/jobs/{shirt.pk}/plates/", query)
    record = PlateSet.objects.get()
    assert answer.status_code == 302 and answer.url == f"/plates/{record.pk}/"
    kept = {**plate_choices.USUAL, **record.choices}
    assert kept["screen"] == "am:lpi=25,angle=45,dot=ellipse,centre=hole,least=3,most=97,break=1"
    assert kept["angles"] == {"Buoy Red": 22.5} and kept["choke"] == {"Underbase White": 0.5}
    assert kept["screens"] == {"Underbase White": "blue-noise:smallest=2"}
    assert kept["gain"] == {"Kelp Green": [[50.0, 64.0], [75.0, 85.0]]} and kept["fold"] == ["Beacon Yellow"]
    assert kept["negative"] and not kept["marks"] and kept["trap"] == 0.25 and kept["overprint"] == "black"
    for field, value, words in (
        ("gain:Kelp Green", "50", "50 68; 75 88"),
        ("screen:Kelp Green", "stars", "Kelp Green: no screen 'stars'"),
        ("gain:Kelp Green", "50 64; 60 20", "rise from 0 to 100"),
        ("lpi", "900", "cells"),
        ("trap", "40", "0..5"),
        ("resolution", "7", "100 to 9600"),
    ):
        refused = client.post(f"/jobs/{shirt.pk}/plates/", query | {field: value})
        assert refused.status_code == 422 and words in refused.content.decode().replace("&#x27;", "'")
        if ":" in field:  # what was typed stays where it was typed
            assert f'value="{value}"' in refused.content.decode()
    assert PlateSet.objects.count() == 1


def test_made_for_a_film_mode_with_its_dots_and_the_press(
    shirt: Job, film_mode: PrintMode, user: User, client: Client
) -> None:
    straight = made(shirt, None, user, resolution=float(DPI), screen="am:lpi=30", marks=False)
    gain = {"*": [[50.0, 65.0]]}
    record = made(shirt, film_mode, user, gain=gain, marks=False)
    assert record.state == "done" and record.edition == 1
    shown = plates.look(shirt, film_mode, {**plate_choices.USUAL, "gain": gain}).plates
    assert [(p.ink, round(p.angle, 3)) for p in shown] == [(p["ink"], p["angle"]) for p in record.plates]
    green = next(i for i, p in enumerate(record.plates) if p["ink"] == "Kelp Green")
    plain = next(i for i, p in enumerate(straight.plates) if p["ink"] == "Kelp Green")
    tints = []
    for which, place in ((straight, plain), (record, green)):
        dots = ink_of(files.local(plates.file_of(which, place)))
        dpm = dots.shape[1] / 120.0
        row = dots[round((140 - 45.5) * dpm) : round((140 - 36.5) * dpm)]
        tints.append(
            [row[:, round((24.5 + 9 * i) * dpm) : round((32.5 + 9 * i) * dpm)].mean() for i in range(8)]
        )
    tones = np.linspace(12.5, 100.0, 8)
    assert np.abs(100.0 * np.array(tints[0]) - tones).max() < 2.5  # ten cells across
    asked = PressGain.of([(50.0, 65.0)]).plate_of(tones) / 100.0
    film = asked - 0.25 * asked * (1.0 - asked)
    assert np.abs(np.array(tints[1]) - film).max() < 0.025
    page = client.get(f"/plates/{record.pk}/").content.decode()
    assert "Lay these films on" in page and "1-bit TIFF" in page
    sent = client.get(f"/plates/{record.pk}/0.tif")
    assert (
        b"".join(sent.streaming_content)[:2] == b"II" and "Underbase White.tif" in sent["Content-Disposition"]
    )
    assert client.get(f"/plates/{record.pk}/0.png")["Content-Type"] == "image/png"
    assert client.get(f"/plates/{record.pk}/9.tif").status_code == 404


def test_films_are_laid_prepared_and_printed_as_their_plates_are(
    shirt: Job, film_mode: PrintMode, user: User, client: Client
) -> None:
    record = made(shirt, film_mode, user)
    answer = client.post(f"/plates/{record.pk}/film/", {"plate": ["0", "2", "5"]})
    record.refresh_from_db()
    assert record.run is not None and answer.url == f"/runs/{record.run_id}/"
    assert record.run.parts.count() == 3 and not record.run.parts.filter(turn=True).exists()
    assert client.get(f"/runs/{record.run_id}/").status_code == 200
    for artwork in Artwork.objects.filter(came_from=f"plates {record.pk}"):
        queue.run(artwork)
    with acting(user):
        file = run_preparing.order_run(record.run, user)
        queue.run(file)
    file.refresh_from_db()
    assert file.state == "done" and file.facts["inks"] == ["K", "Y"]
    with tifffile.TiffFile(files.local(file.file)) as tiff:
        black, yellow = (np.asarray(p.asarray()).astype(bool) for p in tiff.pages)
    plate = ink_of(files.local(plates.file_of(record, 2)))
    whole = sum(int(ink_of(files.local(plates.file_of(record, i))).sum()) for i in (0, 2, 5))
    assert 0.79 < black.sum() / whole < 0.9  # with marks of the run
    assert yellow.sum() / whole == pytest.approx(0.2, abs=0.01)
    assert black.shape[1] == round(record.run.width_mm / 25.4 * DPI) and plate.any()
    assert file.prints.get().state == "held"  # somebody looks at machine and film first
    page = client.get(f"/print-files/{file.pk}/").content.decode()
    assert "K " in page and "dE00" not in page


def test_a_film_is_not_changed_after_its_plate(shirt: Job, film_mode: PrintMode, user: User) -> None:
    record = made(shirt, film_mode, user)
    run = plates.lay_on_film(record, [0], user)
    job = run.parts.get().job
    queue.run(job.artwork)
    with acting(user):
        job = jobs.change(job, {"width_mm": 50.0}, job.version)
        [file] = preparing.order_print_files(job, user)
        queue.run(file)
    file.refresh_from_db()
    assert file.state == "failed" and "as its plate was made" in file.message
    film_mode.version += 1
    film_mode.limits = {"K": 85.0, "Y": 21.25}
    film_mode.save()
    keep_edition(film_mode, [], user)
    with pytest.raises(BadInput, match="another edition by now"):
        plates.lay_on_film(record, [0], user)
    loose = made(shirt, None, user, resolution=300.0)
    with pytest.raises(BadInput, match="made for no film mode"):
        plates.lay_on_film(loose, [0], user)


def test_what_cannot_be_separated_says_why(artwork: Artwork, user: User, client: Client) -> None:
    job = jobs.make_job(artwork, user)
    page = client.get(f"/jobs/{job.pk}/plates/")
    assert page.status_code == 200 and "name the profile of the press" in page.content.decode()
    record = made(job, None, user, resolution=300.0)
    assert record.state == "failed" and record.message.startswith("lit balls.png: it is RGB")
    assert not files.local(plates.folder_of(record.pk)).exists()


def test_a_strip_of_the_press_fills_the_form(shirt: Job, client: Client, user: User) -> None:
    steps = np.array([0, 10, 25, 50, 75, 90, 100]) / 100.0
    grown = np.clip(steps + 4 * 0.16 * steps * (1 - steps), 0, 1)
    paper, solid = np.array([80.0, 83.0, 68.0]), np.array([10.0, 10.5, 9.0])
    # even steps of the colour tone value are even steps of the cube root of light
    root = np.cbrt(paper) + grown[:, None] * (np.cbrt(solid) - np.cbrt(paper))
    strip = ReadingSet(
        tuple(map(str, range(7))), ("Kelp Green",), steps[:, None], measured_xyz=root**3, meta={}
    )
    gain = gain_from_strip(strip, "Kelp Green")
    assert dict(zip(gain.plate, gain.printed))[50.0] == pytest.approx(66.0, abs=0.7)
    sent = ContentFile(cgats.dumps(strip).encode(), name="strip.txt")
    answer = client.post(f"/jobs/{shirt.pk}/plates/strip/", {"strip": sent, "lpi": "45", "kind": "am"})
    assert answer.status_code == 302 and "gain%3AKelp+Green=10+" in answer.url and "lpi=45" in answer.url
    page = client.get(answer.url)
    row = next(r for r in page.context["rows"] if r["plate"].ink == "Kelp Green")
    assert "50 66" in row["gain"] and page.context["plot"]
    wrong = client.post(
        f"/jobs/{shirt.pk}/plates/strip/", {"strip": ContentFile(b"junk", name="x.txt")}, follow=True
    )
    assert "Nothing was changed." in wrong.content.decode()


@pytest.mark.parametrize("increase", [0.0, 14.0])
def test_the_press_prints_what_was_asked_for_after_its_curve(increase: float) -> None:
    gain = PressGain.of([(25.0, 38.0), (50.0, 66.0), (75.0, 87.0)], increase)
    tones = np.linspace(0.0, 100.0, 41)
    printed = gain.printed_of(gain.plate_of(tones))
    assert np.abs(printed - gain.wanted_of(tones)).max() < 0.1
    assert gain.wanted_of(np.array([50.0]))[0] == 50.0 + increase
    assert (np.diff(gain.plate_of(tones)) > 0).all()


def test_screens_are_enlarged_with_their_figures(client: Client) -> None:
    page = client.get("/screens/?kind=am&lpi=60&resolution=1440&plate=C&plate=M&plate=K&tone=40&mm=3")
    text = page.content.decode()
    assert page.context["levels"] == 577 and page.context["drift"] < 0.1
    assert "of a cell over a metre" in text and "577" in text
    drawn = Image.open(io.BytesIO(client.get(page.context["picture"]).content))
    assert (
        drawn.size[0] == drawn.size[1] >= 500 and len(drawn.getcolors(99)) == 8
    )  # three inks, eight overprints
    near = client.get("/screens/?kind=am&plate=C&plate=M&angle:C=15&angle:M=19")
    assert "C and M beat" in near.content.decode()
    wrong = client.get("/screens/?kind=am&lpi=9000")
    assert wrong.status_code == 422 and "cells" in wrong.content.decode()
    assert client.get("/screens/dots.png?kind=am&lpi=9000").status_code == 404
    assert client.get("/screens/?kind=blue-noise&smallest=3").context["levels"] == 65


def test_the_machine_takes_films_for_its_inks(film_mode: PrintMode, shirt: Job, user: User) -> None:
    from greyanchor.devices.ports import MachineState

    record = made(shirt, film_mode, user)
    run = plates.lay_on_film(record, [0], user)
    queue.run(run.parts.get().job.artwork)
    with acting(user):
        file = run_preparing.order_run(run, user)
        queue.run(file)
    waiting = file.prints.get()
    seen = MachineState(
        "idle", media=film_mode.media.name, width_mm=914.0, length_mm=9000.0, model=film_mode.printer.model,
        ink_set="Tarn pigment", other_sets=("Tarn pigment, films",),
    )  # fmt: skip
    assert prints.what_is_wrong(waiting, seen) == []
    other = MachineState("idle", model=film_mode.printer.model, ink_set="Tarn pigment")
    assert "made for the inks Tarn pigment, films" in prints.what_is_wrong(waiting, other)[0]


def test_films_come_out_of_the_machine_and_are_recorded(
    film_mode: PrintMode, shirt: Job, user: User, tmp_path: Path, client: Client
) -> None:
    running = Running(tmp_path / "spool", clock=3000.0)
    DeviceConnection.objects.filter(printer=film_mode.printer).update(
        options={"address": running.server.address}
    )
    running.server.machine.set("media", film_mode.media.name)
    try:
        run = plates.lay_on_film(made(shirt, film_mode, user), [1, 2], user)
        for part in run.parts.all():
            queue.run(part.job.artwork)
        with acting(user):
            file = run_preparing.order_run(run, user)
            queue.run(file)
            record = file.prints.get()
            prints.go(record)
        done = swept(record, Print.State.DONE)
        assert done.ink_ml["K"] > 3.0 * done.ink_ml["Y"] > 0.0
        page = client.get(f"/prints/{done.pk}/").content.decode()
        assert "Films of shirt.pdf" in page and "Film, 30 lines" in page
    finally:
        running.server.shutdown()
        running.server.server_close()


def test_a_film_mode_goes_out_and_in_as_a_pack(film_mode: PrintMode, user: User, client: Client) -> None:
    data = packed(film_mode)
    kept = (film_mode.film, film_mode.splits, film_mode.limits, film_mode.curves)
    pk, name = film_mode.printer_id, film_mode.name
    film_mode.editions.all().delete()
    film_mode.delete()
    job = bring(data, user, {"printers.0": str(pk), "state": "review"})
    assert job.step == "done", job.message
    back = PrintMode.objects.get(name=name)
    assert (back.film, back.splits, back.limits, back.curves) == kept
    assert back.state == "ready" and back.is_whole and back.environment["screen"] == "am:lpi=30,dot=round"
    assert client.get(f"/modes/{back.pk}/").status_code == 200
