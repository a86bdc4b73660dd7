"""The page that puts a printer, its inks, a media class and a media into the library together."""

from __future__ import annotations

from typing import Any

from django import forms
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import MAKE, takes
from greyanchor.core.errors import BadInput
from greyanchor.core.printing.starting_points import STARTING_POINTS, StartingPoint, starting_point
from greyanchor.fields import WholeField
from greyanchor.library.machines.setting_up import Wanted, set_up
from greyanchor.library.models import Media
from greyanchor.library.pages.forms import ChannelsField, ListField, PairsField

USUAL = "aqueous"


class SetUpForm(forms.Form):
    """Everything that a first build needs; each value begins where the starting point has it."""

    site = forms.ModelChoiceField(Site.objects.all(), label="Site", empty_label=None)
    printer = forms.CharField(label="Name of the printer", max_length=80)
    model = forms.CharField(label="Model", max_length=80, help_text="printers of one model share presets")
    serial = forms.CharField(label="Serial number", max_length=40)
    width = WholeField(label="Width, mm", min_value=100, max_value=5200)
    resolutions = ListField(label="Resolutions, dpi", numbers=True, help_text="such as 600, 1200")
    passes = ListField(label="Passes", numbers=True, help_text="such as 4, 8, 12")
    inks = forms.CharField(label="Name of the ink set", max_length=80)
    kind = forms.CharField(label="Kind of ink", max_length=60)
    channels = ChannelsField(label="Channels", help_text="in printing order, such as C M Y K or CMYK")
    light = PairsField(
        label="Light inks", required=False, help_text="each with its parent, such as LC=C, LM=M"
    )
    media_class = forms.CharField(
        label="Media class", max_length=80, help_text="media of one kind lend settings"
    )
    media = forms.CharField(label="Name of the media", max_length=120)
    maker = forms.CharField(label="Maker", max_length=120)
    weight = WholeField(label="Weight, g/m²", min_value=20, max_value=2000)
    thickness = WholeField(label="Thickness, µm", min_value=20, max_value=20000)
    brightener = forms.ChoiceField(
        label="Optical brightener", choices=Media._meta.get_field("brightener").choices
    )
    dry_minutes = WholeField(label="Dry-down, minutes", min_value=0, max_value=10080)
    devices = forms.ChoiceField(
        label="Reached by",
        choices=[
            ("", "files: sheets as TIFF or PDF, readings as files"),
            ("simulated", "simulated devices, to try everything out"),
        ],
        required=False,
        help_text="drivers of real devices are chosen under Printers, Devices",
    )

    @property
    def columns(self) -> list[list[tuple[str, list[Any]]]]:
        """The fields under what they belong to, column by column."""
        return [
            [(title, [self[n] for n in names]) for title, names in column]
            for column in (
                (("Printer", ("printer", "model", "serial", "width", "resolutions", "passes")),),
                (
                    ("Inks", ("inks", "kind", "channels", "light")),
                    ("Where it stands", ("site", "devices")),
                ),
                (
                    (
                        "Media",
                        ("media", "media_class", "maker", "weight", "thickness", "brightener", "dry_minutes"),
                    ),
                ),
            )
        ]

    def wanted(self) -> Wanted:
        """What the service takes."""
        d = self.cleaned_data
        return Wanted(
            d["site"],
            {"name": d["inks"], "kind": d["kind"], "channels": d["channels"], "light": d["light"]},
            {
                "name": d["printer"],
                "model": d["model"],
                "serial": d["serial"],
                "width_mm": d["width"],
                "resolutions": d["resolutions"],
                "passes": d["passes"],
            },
            d["media_class"],
            {
                "name": d["media"],
                "maker": d["maker"],
                "weight": d["weight"],
                "thickness": d["thickness"],
                "width_mm": d["width"],
                "brightener": d["brightener"],
                "dry_minutes": d["dry_minutes"],
            },
            d["devices"] == "simulated",
        )


@takes(MAKE)
def set_up_page(request: HttpRequest) -> HttpResponse:
    """Choose a starting point, change what differs, and put all of it in.

    Another starting point changes only what was not typed: what still stands as the one before had it.
    """
    start = _start(request, "start")
    form = SetUpForm(request.POST or None, initial=_initial(start, request) | _typed(request))
    if request.method == "POST" and form.is_valid():
        try:
            printer = set_up(form.wanted(), start, request.user)
        except BadInput as error:
            form.add_error(None, error.sentence)
        else:
            messages.success(request, f"{printer.name} is in the library, with its inks and a first media.")
            return redirect("start")
    context = {
        "form": form,
        "start": start,
        "points": STARTING_POINTS.values(),
        "sites": Site.objects.exists(),
    }
    return render(request, "web/set_up.html", context, status=422 if request.method == "POST" else 200)


def _start(request: HttpRequest, name: str) -> StartingPoint:
    asked = request.POST.get(name) or request.GET.get(name) or USUAL
    return starting_point(asked if asked in STARTING_POINTS else USUAL)


def _typed(request: HttpRequest) -> dict[str, Any]:
    """What a person typed before another starting point was chosen."""
    if "before" not in request.GET:
        return {}
    before = SetUpForm(initial=_initial(_start(request, "before"), request))
    return {
        name: request.GET[name]
        for name in before.fields
        if name in request.GET and request.GET[name] != _shown(before[name])
    }


def _shown(field: Any) -> str:
    value = field.value()
    if isinstance(value, list):
        value = field.field.prepare_value(value)
    return "" if value is None else str(value)


def _initial(start: StartingPoint, request: HttpRequest) -> dict[str, Any]:
    membership = getattr(request.user, "membership", None)
    return {
        "site": membership.site_id if membership else None,
        "width": start.width,
        "resolutions": list(start.resolutions),
        "passes": list(start.passes),
        "kind": start.inks,
        "channels": list(start.channels),
        "media_class": start.media_class,
        "weight": start.weight,
        "thickness": start.thickness,
        "brightener": start.brightener,
        "dry_minutes": start.dry_minutes,
    }
