"""Books of spot colours, recipes that learn from swatch books, and colours under other lights."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

import numpy as np
import pikepdf
import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from greyanchor.checks.models import Check
from greyanchor.checks.services import Order
from greyanchor.checks.strip_prints import StripChoice, start_check_print
from greyanchor.colours import books, recipes
from greyanchor.colours.models import SpotRecipe, SwatchBook
from greyanchor.core.colour.colorimetry import WAVELENGTHS, spectra_to_lab
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats
from greyanchor.core.measurement.readings import ReadingSet
from greyanchor.core.verification.spot_files import from_file
from greyanchor.demo.prints import careful_reading
from greyanchor.library.models import PrintMode
from greyanchor.library.packs.builder import Label, pack_modes
from greyanchor.library.packs.import_writer import sound_recipes
from greyanchor.measuring.pipelines import mode_pipeline
from greyanchor.measuring.printing import print_sheet
from greyanchor.measuring.services import keep_whole_pass
from greyanchor.printroom.recipes import inks_on
from greyanchor.profiles import spots
from greyanchor.profiles.models import AimRecord, SpotLibrary, SpotRecord

LIST = b"name,L,a,b\nBuoy red,46,58,30\nLand buff,86,3,24\nDeep water,38,-8,-30\nFar green,60,-90,60\n"


@pytest.fixture
def mode(real_mode: PrintMode) -> PrintMode:
    return real_mode


@pytest.fixture
def library(client: Client, user: User) -> SpotLibrary:
    client.post("/colours/spots/import/", {"file": SimpleUploadedFile("book.csv", LIST), "new": "Harbour"})
    return SpotLibrary.objects.get(name="Harbour")


def read(book: SwatchBook, user: User) -> SwatchBook:
    job = print_sheet(book.sheet_print_id, user)
    for number in (1, 2):
        keep_whole_pass(job, careful_reading(job, number), "stand-in reader", user)
    book.refresh_from_db()
    return book


def test_a_book_is_printed_read_and_its_recipes_learn(
    client: Client, mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    keys = list(library.colours.values_list("pk", flat=True))
    form = {"colour": keys, "kind": "table", "page": "a4", "method": "strip", "modes": [mode.pk]}
    answer = client.post("/colours/books/new/", form)
    book = SwatchBook.objects.get()
    assert answer.url == f"/colours/books/{book.pk}/"
    chart = book.sheet_print.chart.patches
    assert chart.names == ("Buoy red", "Deep water", "Far green", "Land buff")
    assert mode.name in chart.meta["ORIGIN"]
    assert mode.printer.serial in chart.meta["ORIGIN"]
    with pikepdf.open(io.BytesIO(client.get(f"/colours/books/{book.pk}/sheets.pdf").content)) as sheets:
        assert b"(Deep water)" in sheets.pages[0].Contents.read_bytes()
    first = read(book, user)
    misses = dict(zip(chart.names, first.results["misses"]))
    assert misses["Far green"] > 5
    assert SpotRecipe.objects.exclude(read=None).count() == 4
    page = client.get(f"/colours/books/{book.pk}/").content.decode()
    assert page.index("Far green") < page.index("Land buff"), "the worst comes first"
    client.post(f"/colours/books/{book.pk}/learn/")
    again = client.post(f"/colours/books/{book.pk}/again/")
    second = read(SwatchBook.objects.get(pk=int(again.url.split("/")[-2])), user)
    inside = [n for n in chart.names if n != "Far green"]
    after = dict(zip(chart.names, second.results["misses"]))
    assert np.mean([after[n] for n in inside]) < 0.5
    assert max(after[n] for n in inside) < 0.9
    found = recipes.learn(mode, books.recipes_in(second), user)
    assert found.out_of_reach == 1, "nothing comes nearer to a colour that is out of reach"


def test_suspect_readings_give_no_result_and_teach_nothing(
    client: Client, mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    (book,) = books.make([mode], list(library.colours.all()), books.BookLayout(), user)
    read(book, user)
    assert SpotRecipe.objects.exclude(read=None).count() == 4
    books.on_readings_suspect(None, book.sheet_print.passes.first())
    book.refresh_from_db()
    assert (book.results, book.read_at) == ({}, None)
    page = client.get(f"/colours/books/{book.pk}/").content.decode()
    assert "These readings are suspect" in page
    assert "Let recipes learn" not in page
    with pytest.raises(BadInput, match="none of these recipes was read"):
        recipes.learn(mode, books.recipes_in(book), user)


def test_jobs_and_checks_print_the_recipes_that_a_mode_keeps(
    client: Client, mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    colour = library.colours.get(name="Land buff")
    own = recipes.choose(mode, colour, [0.05, 0.12, 0.3, 0.02], "by eye", user)
    before = inks_on(mode, [colour.colour])[0].device[-1]
    version = mode.version
    client.post("/colours/spots/into-mode/", {"mode": mode.pk, "colour": [colour.pk]})
    held = PrintMode.objects.select_related("profile").get(pk=mode.pk)
    assert held.version == version + 1
    assert held.recipe_of("land BUFF", colour.colour.lab) == own.inks
    after = inks_on(held, [colour.colour])[0].device[-1]
    assert after == pytest.approx(own.inks)
    assert not np.allclose(before, after)
    assert held.recipe_of("Land buff", (80.0, 0.0, 0.0)) is None, "another colour of that name"
    page = client.get(f"/colours/spots/?mode={mode.pk}").content.decode()
    assert "printed by jobs" in page
    used = client.get(f"/colours/spots/{colour.pk}/?mode={mode.pk}").content.decode()
    assert "nothing yet" not in used


def test_a_strip_proves_the_recipe_that_jobs_print(
    client: Client, mode: PrintMode, library: SpotLibrary, aim: AimRecord, user: User
) -> None:
    colour = library.colours.get(name="Land buff")
    own = recipes.choose(mode, colour, [0.05, 0.12, 0.3, 0.02], "by eye", user)
    held = recipes.put_into_mode(mode, [own], user)
    assert held.editions.get().content["recipes"]["Land buff"]["inks"] == own.inks
    order = Order(aim, "iso12647-7:2016", True, True, {"Land buff": colour.colour})
    job = start_check_print(held, order, StripChoice("short"), user).sheet_print
    at = job.chart.patches.names.index("Land buff")
    assert job.sent[at] == pytest.approx(mode_pipeline(held)(np.array([own.inks]))[0].tolist(), abs=1e-4)
    job = print_sheet(job.pk, user)
    keep_whole_pass(job, careful_reading(job, 1), "stand-in reader", user)
    check = Check.objects.get()
    spot = next(c for c in check.criteria if c["id"] == "spot_max")
    assert spot["patches"] == 1
    assert spot["value"] == pytest.approx(own.miss, abs=1.0)


def test_packs_carry_recipes_and_pass_over_what_is_none(
    mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    colour = library.colours.get(name="Land buff")
    own = recipes.choose(mode, colour, [0.05, 0.12, 0.3, 0.02], "", user)
    held = recipes.put_into_mode(mode, [own], user)
    out = io.BytesIO()
    pack_modes([held.pk], Label("x"), out)
    with zipfile.ZipFile(out) as archive:
        (packed,) = json.loads(archive.read("manifest.json"))["modes"]
    assert sound_recipes(packed["recipes"]) == held.recipes
    odd = {
        "a": 1,
        "b": {"inks": [2.0], "of": [1, 2, 3], "profile": "x"},
        "c": {"inks": "no", "of": [], "profile": ""},
    }
    assert sound_recipes(odd) == {}
    assert sound_recipes([1]) == {}


def test_a_recipe_past_the_limits_is_refused(mode: PrintMode, library: SpotLibrary, user: User) -> None:
    colour = library.colours.first()
    with pytest.raises(BadInput, match="more than the mode may print"):
        recipes.choose(mode, colour, [1.0, 1.0, 1.0, 1.0], "", user)
    with pytest.raises(BadInput, match="4 amounts"):
        recipes.choose(mode, colour, [0.1], "", user)
    with pytest.raises(BadInput, match="past its limit"):
        recipes.choose(mode, colour, [-0.1, 0, 0, 0], "", user)
    with pytest.raises(BadInput, match="none of these recipes was read"):
        recipes.learn(mode, recipes.find(mode, [colour], user).values(), user)


def test_neighbours_are_shown_printed_and_kept(
    client: Client, mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    colour = library.colours.get(name="Buoy red")
    page = client.get(f"/colours/spots/{colour.pk}/?mode={mode.pk}&near=62").content.decode()
    assert "Its surroundings" in page
    assert "out of reach" in page
    form = {
        "near": 1,
        "colour": colour.pk,
        "modes": mode.pk,
        "kind": "table",
        "page": "a4",
        "method": "strip",
    }
    client.post("/colours/books/new/", form | {"lightness": "4", "chroma": "8", "hue": "10"})
    book = read(SwatchBook.objects.get(kind="near"), user)
    names = [r["name"] for r in book.rows]
    assert "Buoy red" in names
    assert any("L +8" in n for n in names)
    assert len(names) < 125, "what cannot be printed is left out"
    position = names.index("Buoy red") - 1
    client.post(f"/colours/books/{book.pk}/keep/", {"number": position, "name": "Customer's red"})
    kept = SpotRecord.objects.get(name="Customer's red")
    assert kept.library == library
    assert np.allclose(kept.colour.lab, book.results["lab"][position], atol=0.01)
    assert kept.spectrum
    again = client.post(
        f"/colours/books/{book.pk}/keep/", {"number": 0, "name": "customer's red"}, follow=True
    )
    assert "choose another name" in again.content.decode()


def test_books_go_both_ways_and_names_come_from_the_first(client: Client, library: SpotLibrary) -> None:
    spectrum = tuple(float(v) for v in np.round(0.3 + 0.001 * (WAVELENGTHS - 380), 6))
    lab = spectra_to_lab(np.array(spectrum))
    nm = ",".join(f"{w} nm" for w in WAVELENGTHS)
    row = ",".join(str(v) for v in spectrum)
    text = f"name,L,a,b,condition,{nm}\nBuoy red,{lab[0]:.4f},{lab[1]:.4f},{lab[2]:.4f},M1,{row}\n".encode()
    client.post("/colours/spots/import/", {"file": SimpleUploadedFile("b.csv", text), "new": "Customer"})
    other = SpotLibrary.objects.get(name="Customer")
    for ending in ("cxf", "csv", "txt"):
        back = from_file(client.get(f"/colours/spots/book/{other.pk}.{ending}").content, f"b.{ending}")
        assert np.allclose(back["Buoy red"].spectrum, spectrum, atol=1e-5)
    assert spots.named(["BUOY RED"])["BUOY RED"].library == library
    client.post("/colours/spots/book/", {"first": other.pk})
    assert spots.named(["BUOY RED"])["BUOY RED"].library == other
    page = client.get("/colours/spots/alike/").content.decode()
    assert "one name in two books" in page
    found = client.get("/colours/spots/?q=46 58 30&mode=").content.decode()
    assert "Nearest to" in found
    assert found.index("Buoy red") < found.index("Deep water")
    assert "Deep water" not in client.get("/colours/spots/?q=buoy&mode=").content.decode()


def test_the_nearest_to_what_an_instrument_read(client: Client, library: SpotLibrary) -> None:
    readings = ReadingSet(
        ids=("1", "2"), measured_lab=np.array([[45.0, 57.0, 30.0], [85.0, 3.0, 23.0]]), condition="M2"
    )
    sent = SimpleUploadedFile("fan.txt", cgats.dumps(readings).encode())
    page = client.post("/colours/spots/nearest/", {"file": sent}).content.decode()
    assert page.index("Buoy red") < page.index("Land buff")
    assert "read under M2" in page
    assert SpotRecord.objects.count() == 4, "nothing is kept"


def test_chips_have_lines_to_cut_along_and_white_is_asked_of_modes_that_have_it(
    client: Client, mode: PrintMode, library: SpotLibrary, user: User
) -> None:
    colours = list(library.colours.all())
    (made,) = books.make([mode], colours, books.BookLayout("chips", "610x400", "table"), user)
    with pikepdf.open(io.BytesIO(client.get(f"/colours/books/{made.pk}/sheets.pdf").content)) as sheets:
        assert sheets.pages[0].Contents.read_bytes().count(b"re S") == 4
        assert float(sheets.pages[0].MediaBox[2]) == pytest.approx(610 / 25.4 * 72, abs=0.5)
    assert client.get(f"/colours/books/{made.pk}/sheets.tif").status_code == 200
    with pytest.raises(BadInput, match="has no white"):
        books.make([mode], colours, books.BookLayout(with_white=True), user)
    mode.planes = {"W": {"kind": "white", "limit": 80.0, "curve": [0.0, 40.0, 80.0]}}
    mode.save()
    (over,) = books.make([mode], colours, books.BookLayout(with_white=True), user)
    assert over.sheet_print.sent_channels[-1] == "W"
    assert {row[-1] for row in over.sheet_print.sent} == {0.8}
    with pytest.raises(BadInput, match="no row"):
        books.make([mode], colours, books.BookLayout(page="80x50", patch=40.0), user)
    assert SwatchBook.objects.count() == 2, "what was refused left nothing"


def test_all_recipes_of_a_book_are_found_in_the_background(
    client: Client, mode: PrintMode, library: SpotLibrary, django_capture_on_commit_callbacks: Any
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        client.post("/colours/spots/find-all/", {"mode": mode.pk, "book": library.pk})
    assert SpotRecipe.objects.filter(mode=mode).count() == 4


def test_two_modes_and_a_spot_colour_are_seen_under_other_lights(
    client: Client, mode: PrintMode, library: SpotLibrary
) -> None:
    page = client.get(f"/colours/metamerism/?a=mode-{mode.pk}&b=mode-{mode.pk}&light=A").content.decode()
    assert "hold together" in page
    colour = library.colours.get(name="Land buff")
    said = client.get(f"/colours/metamerism/?a=spot-{colour.pk}&b=mode-{mode.pk}").content.decode()
    assert "no spectrum is known" in said.lower()
    bump = 0.25 * np.exp(-(((WAVELENGTHS - 610.0) / 12.0) ** 2))
    odd = 0.3 + bump
    colour.spectrum = [float(v) for v in odd]
    colour.lightness, colour.a, colour.b = (float(v) for v in spectra_to_lab(odd))
    colour.save()
    page = client.get(
        f"/colours/metamerism/?a=spot-{colour.pk}&b=mode-{mode.pk}&light=F11&light=A"
    ).content.decode()
    assert "1 of 1 pairs part" in page
    assert "Brightener makes its white" in page


def test_what_is_no_list_is_refused_and_nothing_is_kept(client: Client, user: User) -> None:
    sent = SimpleUploadedFile("odd.csv", b"name,L,a\nx,1,2\n")
    page = client.post("/colours/spots/import/", {"file": sent, "new": "Odd"}, follow=True).content.decode()
    assert "Nothing was imported" in page
    assert not SpotLibrary.objects.filter(name="Odd").exists()
