"""CGATS, CxF3 and CSV as the world writes them; broken files are refused with line and reason."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from click.testing import CliRunner

from greyanchor.cli import main
from greyanchor.core.charts import patches
from greyanchor.core.charts.layout import lay_out
from greyanchor.core.colour.colorimetry import delta_e_2000
from greyanchor.core.errors import BadInput
from greyanchor.core.formats import cgats, csv_table, cxf, cxf_writing, readings_file
from greyanchor.core.measurement.readings import ReadingSet, match_chart
from greyanchor.core.simulation.catalogue import press_by_name
from greyanchor.core.simulation.standin import print_and_read
from tests.conftest import CMYK

WRITERS = {".txt": cgats.dumps, ".cxf": cxf_writing.dumps, ".csv": csv_table.dumps}


@pytest.fixture(scope="module")
def readings() -> ReadingSet:
    chart, _ = lay_out(patches.design("ink-limit", count=44), CMYK, meta={"DESCRIPTOR": "Probe <&> „α“"})
    return print_and_read(chart, press_by_name("petrel-44"), 3)


@pytest.mark.parametrize("ending", WRITERS)
@pytest.mark.parametrize("kind", ["spectra", "xyz", "lab", "chart"])
def test_every_format_gives_back_what_was_written(readings: ReadingSet, ending: str, kind: str) -> None:
    if kind == "xyz":
        readings = replace(readings, spectra=None, measured_xyz=readings.xyz())
    elif kind == "lab":
        readings = replace(readings, spectra=None, measured_lab=readings.lab())
    elif kind == "chart":
        readings = replace(readings, spectra=None)
    text = readings_file.dumps(readings, f"x{ending}")
    back = readings_file.loads(text.encode(), f"x{ending}")
    assert back.ids == readings.ids and back.channels == CMYK and back.condition == "M1"
    np.testing.assert_allclose(back.device, readings.device, atol=2e-6)
    np.testing.assert_array_equal(back.rows, readings.rows)
    np.testing.assert_array_equal(back.sheets, readings.sheets)
    assert back.is_measured == readings.is_measured
    if readings.is_measured:
        assert delta_e_2000(back.lab(), readings.lab()).max() < 0.002
        assert (back.spectra is None) == (readings.spectra is None)


@pytest.mark.parametrize("condition", ["M0", "M2"])
@pytest.mark.parametrize("ending", WRITERS)
def test_the_measurement_condition_travels(readings: ReadingSet, ending: str, condition: str) -> None:
    text = readings_file.dumps(replace(readings, condition=condition), f"x{ending}")
    assert readings_file.loads(text.encode()).condition == condition


def test_cxf_is_plain_xml_in_its_namespace(readings: ReadingSet) -> None:
    root = ElementTree.fromstring(cxf_writing.dumps(readings))
    space = "{http://colorexchangeformat.com/CxF3-core}"
    assert root.tag == f"{space}CxF"
    found = root.findall(f".//{space}Object")
    assert len(found) == len(readings)
    spectrum = found[-1].find(f".//{space}ReflectanceSpectrum")
    assert spectrum.get("StartWL") == "380" and len(spectrum.text.split()) == 36


FOREIGN_CXF = """<?xml version="1.0"?>
<CxF xmlns="http://colorexchangeformat.com/CxF3-core"><Resources><ObjectCollection>
<Object ObjectType="Target" Name="A1" Id="1"><DeviceColorValues><ColorCMYK ColorSpecification="d">
<Cyan>0</Cyan><Magenta>0</Magenta><Yellow>0</Yellow><Black>0</Black></ColorCMYK></DeviceColorValues>
</Object>
<Object ObjectType="M0_Measurement" Name="A1" Id="2"><ColorValues>
<ReflectanceSpectrum ColorSpecification="zero" StartWL="400">{low}</ReflectanceSpectrum></ColorValues>
</Object>
<Object ObjectType="M2_Measurement" Name="A1" Id="3"><ColorValues>
<ReflectanceSpectrum ColorSpecification="two" StartWL="400">{high}</ReflectanceSpectrum></ColorValues>
</Object>
</ObjectCollection><ColorSpecificationCollection>
<ColorSpecification Id="zero"><MeasurementSpec><WavelengthRange StartWL="400" Increment="20"/><Device>
<DeviceIllumination>M0_Incandescent</DeviceIllumination></Device></MeasurementSpec></ColorSpecification>
<ColorSpecification Id="two"><MeasurementSpec><WavelengthRange StartWL="400" Increment="20"/><Device>
<DeviceIllumination>M2_UVExcluded</DeviceIllumination></Device></MeasurementSpec></ColorSpecification>
</ColorSpecificationCollection></Resources></CxF>"""


def test_cxf_joins_objects_of_one_name_and_keeps_conditions_apart() -> None:
    text = FOREIGN_CXF.format(low=" ".join(["0.5"] * 16), high=" ".join(["0.9"] * 16))
    found = cxf.loads(text.encode())
    assert found.ids == ("A1",) and found.condition == "M0" and found.device.tolist() == [[0, 0, 0, 0]]
    assert found.xyz()[0, 1] == pytest.approx(50.0, abs=1e-6), "a flat half reflects half, whatever the step"


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ('<?xml version="1.0"?>\n<!DOCTYPE a [<!ENTITY b "boom">]>\n<a>&b;</a>', 2, "document type"),
        ("<?xml version='1.0'?>\n<CxF>\n<Resources></CxF>", 3, "well-formed"),
        ("<html></html>", 1, "not CxF"),
        (
            (
                "<CxF>\n<Object "
                'Name="1"><ColorValues><ColorCIELab><L>50</L><A>x</A><B>0</B></ColorCIELab></ColorValues>'
                "</Object></CxF>"
            ),
            2,
            "not a number",
        ),
        (
            (
                '<CxF>\n\n<Object Name="1"><ColorValues><ReflectanceSpectrum>1 2 '
                "3</ReflectanceSpectrum></ColorValues></Object></CxF>"
            ),
            3,
            "too narrow",
        ),
        ("<a>" * 60, 1, "nested"),
    ],
)
def test_a_broken_cxf_is_refused_with_its_line(text: str, line: int, words: str) -> None:
    with pytest.raises(BadInput, match=words) as found:
        readings_file.loads(text.encode(), "bad.cxf")
    assert found.value.line == line and found.value.source == "bad.cxf"


def test_an_entity_bomb_is_refused_before_it_grows() -> None:
    bomb = '<!DOCTYPE z [<!ENTITY a "aaaaaaaaaa">' + "".join(
        f'<!ENTITY {chr(98 + i)} "{f"&{chr(97 + i)};" * 10}">' for i in range(9)
    )
    with pytest.raises(BadInput, match="refused"):
        cxf.loads((bomb + "]><CxF>&j;</CxF>").encode(), "bomb.xml")


def test_csv_is_read_with_semicolons_decimal_commas_and_bare_headings() -> None:
    text = "\ufeffPatch;C;M;Y;K;L;a;b\nA1;0;0;0;0;95,2;0,1;-1,5\nA2;100;0;0;0;55;-36,5;-50\n"
    found = readings_file.loads(text.encode(), "shop.csv")
    assert found.ids == ("A1", "A2") and found.device[1].tolist() == [1, 0, 0, 0]
    np.testing.assert_allclose(found.lab()[0], [95.2, 0.1, -1.5])


def test_csv_distinguishes_yellow_from_tristimulus_y() -> None:
    found = csv_table.loads("id,C %,M %,Y %,K %,X,Y,Z\n1,0,0,30,0,80,83,60\n")
    assert found.device[0, 2] == pytest.approx(0.3) and found.xyz()[0].tolist() == [80, 83, 60]


def test_csv_carries_more_than_four_channels() -> None:
    channels = ("C", "M", "Y", "K", "O")
    made = ReadingSet(("1", "2"), channels, np.array([[0, 0, 0, 0, 1.0], [0.5, 0, 0, 0, 0]]))
    for write in (csv_table.dumps, cxf_writing.dumps, cgats.dumps):
        back = readings_file.loads(write(made).encode())
        assert back.channels == channels
        np.testing.assert_allclose(back.device, made.device)


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("id,L,a,b\n1,50,0\n", 2, "3 values"),
        ("id,L,a,b\n1,50,0,x\n", 2, "not a number"),
        ("name,colour,note\n1,blue,none\n", 1, "none of the headings"),
        ("id,L,a,b\n1,50,0,0\n1,51,0,0\n", 3, "already given"),
        ("id,L,a,b\n" + "9" * 30_000 + ",1,2,3\n", 2, "characters"),
        ("id,L,a,b\n1,50,5,0,5,0,5\n", 2, "decimal commas"),
    ],
)
def test_a_broken_csv_is_refused_with_its_line(text: str, line: int, words: str) -> None:
    with pytest.raises(BadInput, match=words) as found:
        csv_table.loads(text, "bad.csv")
    assert found.value.line == line


def test_an_overlong_line_of_cgats_is_refused(readings: ReadingSet) -> None:
    text = cgats.dumps(readings).replace("BEGIN_DATA\n", "BEGIN_DATA\n" + "1 " * 20_000 + "\n", 1)
    with pytest.raises(BadInput, match="characters") as found:
        cgats.loads(text, "long.txt")
    assert found.value.line and found.value.line > 10


@pytest.mark.parametrize("step", [5, 20])
@pytest.mark.parametrize("percent", [False, True])
def test_spectra_at_other_steps_and_in_percent_give_the_same_colour(
    readings: ReadingSet, step: int, percent: bool
) -> None:
    nm = np.arange(380, 731, 10)
    fine = np.arange(380, 731, step)
    scale = 100.0 if percent else 1.0
    head = "SAMPLE_ID\t" + "\t".join(f"NM_{w}" for w in fine)
    rows = [
        f"{name}\t" + "\t".join(f"{scale * v:.6f}" for v in np.interp(fine, nm, s))
        for name, s in zip(readings.ids, readings.spectra)
    ]
    text = "CGATS.17\r\nBEGIN_DATA_FORMAT\r\n" + head + "\r\nEND_DATA_FORMAT\r\nBEGIN_DATA\r\n"
    back = cgats.loads((text + "\r\n".join(rows) + "\r\nEND_DATA\r\n").encode())
    off = delta_e_2000(back.lab(), readings.lab())
    assert off.max() < (0.35 if step == 5 else 1.5)


def test_convert_goes_round_all_formats(readings: ReadingSet, tmp_path: Path) -> None:
    first = tmp_path / "a.txt"
    cgats.write(readings, first)
    files = [first, tmp_path / "b.cxf", tmp_path / "c.csv", tmp_path / "d.xml", tmp_path / "e.txt"]
    for source, target in pairwise(files):
        done = CliRunner().invoke(main, ["convert", str(source), str(target)])
        assert done.exit_code == 0, done.output
    back = cgats.read(files[-1])
    assert back.ids == readings.ids and back.meta == cgats.read(first).meta
    np.testing.assert_allclose(back.spectra, readings.spectra, atol=1e-6)


def test_a_chart_is_matched_by_device_values_when_ids_differ(readings: ReadingSet) -> None:
    chart = replace(readings, spectra=None)
    mixed = readings.select(np.random.default_rng(1).permutation(len(readings)))
    renamed = replace(
        mixed, ids=tuple(f"X{i}" for i in range(len(mixed))), rows=None, columns=None, sheets=None
    )
    with pytest.raises(BadInput, match="first missing patch"):
        match_chart(chart, renamed)
    found = match_chart(chart, renamed, "device")
    assert found.ids == chart.ids
    unique = np.unique(readings.device, axis=0, return_counts=True)[1].max()
    assert unique == 4, "the paper is there four times"
    once = readings.device.max(axis=1) > 0
    np.testing.assert_allclose(found.spectra[once], readings.spectra[once])


def test_matching_by_device_values_names_what_is_not_there(readings: ReadingSet) -> None:
    device = readings.device.copy()
    device[10] = [0.123, 0.3, 0, 0]
    with pytest.raises(BadInput, match=f"patch {readings.ids[10]}"):
        match_chart(readings, replace(readings, device=device), "device")
    with pytest.raises(BadInput, match="no device values"):
        match_chart(readings, replace(readings, device=None, channels=()), "device")
