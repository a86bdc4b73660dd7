"""Pages through Ghostscript: drawn true, and safe from files that are meant badly."""

from __future__ import annotations

import resource
import shutil
from pathlib import Path

import numpy as np
import pikepdf
import pytest
from reportlab.lib.colors import CMYKColor, CMYKColorSep
from reportlab.pdfgen.canvas import Canvas

from greyanchor.core.artwork import pages
from greyanchor.core.artwork.inspection import examine
from greyanchor.core.artwork.pages import page_size, render_page
from greyanchor.core.artwork.pdf_rewriting import rewrite
from greyanchor.core.errors import BadInput

pytestmark = pytest.mark.skipif(shutil.which("gs") is None, reason="Ghostscript is not installed")


@pytest.fixture
def page_file(tmp_path: Path) -> Path:
    """A page of 200 x 100 points: a tint of C M Y K on the left, a spot colour, a cut contour round it."""
    path = tmp_path / "page.pdf"
    made = Canvas(str(path), pagesize=(200, 100), invariant=1)
    made.setFillColor(CMYKColor(0.2, 0.4, 0.6, 0.0))
    made.rect(0, 0, 100, 100, stroke=0, fill=1)
    made.setFillColor(CMYKColorSep(0.0, 0.8, 0.9, 0.0, spotName="Buoy Red"))
    made.rect(120, 20, 60, 60, stroke=0, fill=1)
    made.setStrokeColor(CMYKColorSep(0.0, 1.0, 0.0, 0.0, spotName="Thru-cut"))
    made.setLineWidth(8)
    made.rect(104, 4, 92, 92)
    made.showPage()
    made.showPage()
    made.save()
    return path


def drawn(path: Path, folder: Path, number: int = 1, dots: float = 72.0) -> np.ndarray:
    folder.mkdir(exist_ok=True)
    return render_page(path, number, folder, dots).picture().pixels()


def test_c_m_y_k_stays_as_it_is_and_spots_are_what_stands_in_for_them(
    page_file: Path, tmp_path: Path
) -> None:
    pixels = drawn(page_file, tmp_path / "a")
    assert pixels.shape == (100, 200, 4)
    assert np.abs(pixels[50, 50] - np.array([51, 102, 153, 0])).max() <= 1
    assert np.abs(pixels[50, 150].astype(int) - np.array([0, 204, 230, 0])).max() <= 2


def test_cut_contours_leave_no_mark(page_file: Path, tmp_path: Path) -> None:
    pixels = drawn(page_file, tmp_path / "a")
    assert pixels[4:96, 104].max() == 0, "the contour's line is bare paper"
    assert rewrite(page_file, tmp_path / "copy.pdf")
    assert [f.text for f in examine(page_file).findings if "cut contour" in f.text]


def test_sizes_turns_and_pages(page_file: Path, tmp_path: Path) -> None:
    assert page_size(page_file) == (200.0, 100.0)
    with pikepdf.open(page_file, allow_overwriting_input=True) as pdf:
        pdf.pages[0].Rotate = 90
        pdf.pages[0].cropbox = [0, 0, 100, 100]
        pdf.pages[1].mediabox = [0, 0, 300, 60]
        pdf.pages[1].obj.UserUnit = 2
        pdf.save(page_file)
    assert page_size(page_file) == (100.0, 100.0)
    assert page_size(page_file, 2) == (600.0, 120.0)
    assert drawn(page_file, tmp_path / "a", dots=144.0).shape[:2] == (200, 200)
    with pytest.raises(BadInput, match="it has 2 pages, not 3"):
        drawn(page_file, tmp_path / "b", 3)


def test_a_page_is_drawn_as_fine_as_its_size_needs(page_file: Path, tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    found = render_page(page_file, 1, tmp_path / "a", 100.0, width_mm=254.0)
    assert abs(found.picture().width - 1000) <= 2
    with pytest.raises(BadInput, match="choose another size or resolution"):
        render_page(page_file, 1, tmp_path / "a", 2400.0, width_mm=60_000.0)


def postscript(tmp_path: Path, body: bytes) -> Path:
    path = tmp_path / "bad.ps"
    path.write_bytes(b"%!PS-Adobe-3.0\n%%BoundingBox: 0 0 100 100\n" + body + b"\nshowpage\n")
    return path


def test_postscript_that_loops_is_stopped(tmp_path: Path) -> None:
    path = postscript(tmp_path, b"{ 1 pop } loop")
    (tmp_path / "a").mkdir()
    with pytest.raises(BadInput, match=r"bad\.ps: drawing it took longer than 1 s") as error:
        render_page(path, 1, tmp_path / "a", 72.0, seconds=1)
    assert "may never end" in str(error.value)


def test_postscript_that_reads_or_writes_files_is_refused(tmp_path: Path) -> None:
    secret, written = tmp_path / "secret.txt", tmp_path / "written.txt"
    secret.write_text("secret")
    for body in (f"({secret}) (r) file pop", f"({written}) (w) file pop", "(/etc/passwd) run"):
        (tmp_path / "a").mkdir(exist_ok=True)
        with pytest.raises(BadInput, match="which is refused|cannot be drawn"):
            render_page(postscript(tmp_path, body.encode()), 1, tmp_path / "a", 72.0)
        shutil.rmtree(tmp_path / "a")
    assert not written.exists()


def test_postscript_that_eats_memory_is_stopped(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pages, "MOST_MEMORY", 300 * 2**20)
    path = postscript(
        tmp_path, b"[ 40 { 60000 array dup 0 1 59999 { 1 index exch 1000 string put } for pop } repeat ]"
    )
    (tmp_path / "a").mkdir()
    with pytest.raises(BadInput, match="memory|never end|cannot be drawn"):
        render_page(path, 1, tmp_path / "a", 72.0, seconds=20)


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"%PDF-1.7\nnothing else", "damaged"),
        (
            b"%PDF-1.7\n1 0 obj\n<< /Type /Catalog /Pages 1 0 R >>\nendobj\ntrailer << /Root 1 0 R >>\n%%EOF",
            "bad.pdf",
        ),
    ],
    ids=["empty", "endless"],
)
def test_a_broken_pdf_is_named(tmp_path: Path, data: bytes, says: str) -> None:
    path = tmp_path / "bad.pdf"
    path.write_bytes(data)
    with pytest.raises(BadInput, match=says):
        examine(path)


def test_forms_that_hold_themselves_end(tmp_path: Path) -> None:
    pdf = pikepdf.new()
    page = pdf.add_blank_page(page_size=(100, 100))
    form = pikepdf.Stream(pdf, b"/F Do " * 3)
    form.Type, form.Subtype, form.BBox = pikepdf.Name.XObject, pikepdf.Name.Form, [0, 0, 100, 100]
    form = pdf.make_indirect(form)
    form.Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(F=form))
    page.Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(F=form))
    page.Contents = pdf.make_stream(b"/F Do")
    pdf.save(tmp_path / "deep.pdf")
    assert len(examine(tmp_path / "deep.pdf").pages) == 1


def test_spot_names_in_any_alphabet(tmp_path: Path) -> None:
    path = tmp_path / "spot.pdf"
    made = Canvas(str(path), pagesize=(100, 100), invariant=1)
    made.setFillColor(CMYKColorSep(0.1, 0.2, 0.3, 0.0, spotName="Himmelblau"))
    made.rect(10, 10, 50, 50, fill=1)
    made.save()
    with pikepdf.open(path, allow_overwriting_input=True) as pdf:
        for item in pdf.objects:
            if isinstance(item, pikepdf.Array) and len(item) == 4 and str(item[0]) == "/Separation":
                item[1] = pikepdf.Name("/#E6#B5#B7#E8#93#9D")
        for space in dict(pdf.pages[0].Resources.get("/ColorSpace", {})).values():
            space[1] = pikepdf.Name("/#E6#B5#B7#E8#93#9D")
        pdf.save(path)
    assert list(examine(path).pages[0].spots) == ["海蓝"]


def test_layers_that_are_off_and_output_intents_are_said(page_file: Path) -> None:
    with pikepdf.open(page_file, allow_overwriting_input=True) as pdf:
        layer = pdf.make_indirect(pikepdf.Dictionary(Type=pikepdf.Name.OCG, Name="Depths"))
        pdf.Root.OCProperties = pikepdf.Dictionary(OCGs=[layer], D=pikepdf.Dictionary(OFF=[layer]))
        intent = pikepdf.Dictionary(Type=pikepdf.Name.OutputIntent, OutputConditionIdentifier="Quay press")
        pdf.Root.OutputIntents = [intent]
        pdf.save(page_file)
    said = " ".join(f.text for f in examine(page_file).findings)
    assert "switched off will not print: Depths" in said and "made for Quay press" in said


def test_without_ghostscript_a_pdf_says_what_to_install(page_file: Path, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr(pages, "ghostscript", lambda: None)
    monkeypatch.setattr("greyanchor.core.artwork.inspection.ghostscript", lambda: None)
    found = examine(page_file).findings[0]
    assert found.level == "stop" and "install it" in found.advice
    (tmp_path / "a").mkdir()
    with pytest.raises(BadInput, match="install Ghostscript"):
        render_page(page_file, 1, tmp_path / "a", 72.0)


def test_a_very_large_page_is_drawn_coarser(
    page_file: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pages, "MOST_PIXELS", 100_000)
    (tmp_path / "a").mkdir()
    found = render_page(page_file, 1, tmp_path / "a", 400.0)
    assert found.resolution == 100.0 and found.picture().width == 278
    assert abs(found.picture().size_mm[0] - 200 / 72 * 25.4) < 0.2, "as large as before"


def test_a_page_that_never_ends_is_looked_at_in_part(tmp_path: Path) -> None:
    """A hundred megabytes of drawing in a file of a hundred kilobytes cost neither memory nor minutes."""
    path = tmp_path / "endless.pdf"
    with pikepdf.new() as pdf:
        pdf.add_blank_page(page_size=(200, 200))
        pdf.pages[0].Contents = pikepdf.Stream(pdf, b"0 0 10 10 re f\n" * 7_000_000)
        pdf.save(path, compress_streams=True)
    assert path.stat().st_size < 500_000
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    found = examine(path)
    assert "a part of it was not looked at" in " ".join(f.text for f in found.findings)
    assert (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024 < 1200


def test_a_form_that_holds_itself_ends(tmp_path: Path) -> None:
    path = tmp_path / "itself.pdf"
    with pikepdf.new() as pdf:
        pdf.add_blank_page(page_size=(200, 200))
        form = pikepdf.Stream(pdf, b"/X Do")
        form.Type, form.Subtype, form.BBox = pikepdf.Name.XObject, pikepdf.Name.Form, [0, 0, 9, 9]
        held = pdf.make_indirect(form)
        held.Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(X=held))
        pdf.pages[0].Resources = pikepdf.Dictionary(XObject=pikepdf.Dictionary(X=held))
        pdf.pages[0].Contents = pikepdf.Stream(pdf, b"/X Do")
        pdf.save(path)
    assert examine(path).pages[0].width_mm == pytest.approx(70.56, abs=0.1)
