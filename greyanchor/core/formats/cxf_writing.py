"""CxF/X-4 written: readings with their device values and their measurement condition."""

from __future__ import annotations

from xml.sax.saxutils import escape, quoteattr

from greyanchor.core.colour.colorimetry import Array
from greyanchor.core.errors import BadInput
from greyanchor.core.formats.cxf import INK_NAMES, LIGHTS, NAMESPACE
from greyanchor.core.measurement.readings import ReadingSet


def dumps(readings: ReadingSet) -> str:
    """CxF3 text of a chart or a reading set. Raises `BadInput` for densities of films, which it has no place
    for.
    """
    if readings.densities is not None:
        raise BadInput("densities of films are written as CGATS text (.txt) or CSV, not as CxF3")
    out = ['<?xml version="1.0" encoding="UTF-8"?>', f'<cc:CxF xmlns:cc="{NAMESPACE}">']
    out.append(" <cc:FileInformation><cc:Creator>Grey Anchor</cc:Creator>")
    if readings.meta.get("DESCRIPTOR"):
        out.append(f"  <cc:Description>{escape(readings.meta['DESCRIPTOR'])}</cc:Description>")
    for key, value in sorted(readings.meta.items()):
        out.append(f"  <cc:Tag Name={quoteattr(key)} Value={quoteattr(str(value))}/>")
    out += [" </cc:FileInformation>", " <cc:Resources>", "  <cc:ObjectCollection>"]
    out += [_object(readings, i) for i in range(len(readings))]
    out += ["  </cc:ObjectCollection>", "  <cc:ColorSpecificationCollection>"]
    out += [
        "   <cc:ColorSpecification "
        f'Id="{readings.condition}"><cc:TristimulusSpec><cc:Illuminant>D50</cc:Illuminant>'
        "<cc:Observer>2_Degree</cc:Observer></cc:TristimulusSpec><cc:MeasurementSpec>"
        "<cc:MeasurementType>Spectrum_Reflectance</cc:MeasurementType>"
        '<cc:WavelengthRange StartWL="380" Increment="10"/>'
        f"<cc:Device><cc:DeviceIllumination>{readings.condition}</cc:DeviceIllumination></cc:Device>"
        "</cc:MeasurementSpec></cc:ColorSpecification>",
        "  </cc:ColorSpecificationCollection>",
        " </cc:Resources>",
        "</cc:CxF>",
        "",
    ]
    return "\n".join(out)


def _object(readings: ReadingSet, i: int) -> str:
    name = quoteattr(readings.ids[i])
    parts = [
        (
            f'   <cc:Object ObjectType="{"Measurement" if readings.is_measured else "Target"}" Name={name} '
            f'Id="p{i + 1}">'
        )
    ]
    if readings.is_measured:
        parts.append("<cc:ColorValues>")
        if readings.spectra is not None:
            values = " ".join(f"{v:.6f}" for v in readings.spectra[i])
            parts.append(
                f'<cc:ReflectanceSpectrum ColorSpecification="{readings.condition}" '
                f'StartWL="380">{values}</cc:ReflectanceSpectrum>'
            )
        elif readings.measured_xyz is not None:
            parts.append(_coordinates("ColorCIEXYZ", "XYZ", readings.measured_xyz[i], readings.condition))
        lab = readings.lab()[i]
        parts.append(_coordinates("ColorCIELab", "LAB", lab, readings.condition) + "</cc:ColorValues>")
    if readings.device is not None:
        parts.append(f"<cc:DeviceColorValues>{_inks(readings, i)}</cc:DeviceColorValues>")
    tags = [
        f'<cc:Tag Name="{label}" Value="{int(where[i])}"/>'
        for label, where in (("Sheet", readings.sheets), ("Row", readings.rows), ("Column", readings.columns))
        if where is not None
    ]
    if tags:
        parts.append(f"<cc:TagCollection>{''.join(tags)}</cc:TagCollection>")
    return "".join([*parts, "</cc:Object>"])


def _coordinates(element: str, names: str, values: Array, condition: str) -> str:
    inner = "".join(f"<cc:{n}>{v:.5f}</cc:{n}>" for n, v in zip(names, values))
    return f'<cc:{element} ColorSpecification="{condition}">{inner}</cc:{element}>'


def _inks(readings: ReadingSet, i: int) -> str:
    assert readings.device is not None
    values = dict(zip(readings.channels, readings.device[i]))
    if readings.channels == tuple("RGB"):
        inner = "".join(f"<cc:{n}>{255 * values[c]:.3f}</cc:{n}>" for n, c in LIGHTS.items())
        return f'<cc:ColorRGB ColorSpecification="Unknown">{inner}</cc:ColorRGB>'
    process = "".join(
        f"<cc:{INK_NAMES[c]}>{100 * v:.4f}</cc:{INK_NAMES[c]}>" for c, v in values.items() if c in INK_NAMES
    )
    spots = "".join(
        (
            f"<cc:SpotColor><cc:Name>{escape(c)}</cc:Name><cc:Percentage>{100 * v:.4f}</cc:Percentage>"
            "</cc:SpotColor>"
        )
        for c, v in values.items()
        if c not in INK_NAMES
    )
    element = "ColorCMYKPlusN" if spots else "ColorCMYK"
    return f'<cc:{element} ColorSpecification="Unknown">{process}{spots}</cc:{element}>'
