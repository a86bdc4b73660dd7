"""A small shared library for tests: machines with abilities, presets, and finished modes without a build."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User

from greyanchor.accounts.models import Site
from greyanchor.accounts.roles import Role, set_role
from greyanchor.core.calibration.curves import CurveSet
from greyanchor.core.printing.environment import PrintEnvironment
from greyanchor.demo.devices import connect_all
from greyanchor.library.models import InkSet, Media, MediaClass, MediaPreset, Printer, PrintMode
from greyanchor.profiles.models import Profile
from tests.core.test_packs import tiny_profile

ABILITIES = {
    "vacuum": {"low": 0, "high": 90, "step": 1, "usual": 50},
    "heat_on": {"low": 20, "high": 60, "step": 1, "usual": 35},
    "pass_pause": {"low": 0, "high": 3, "step": 0.1, "usual": 0},
    "feed": {"low": -1, "high": 1, "step": 0.01, "usual": 0},
    "alignment": {"low": -200, "high": 200, "step": 5, "usual": 0},
}
CARRIAGE = {"swath": 54.0, "fastest": 1000.0, "firing": 24.0, "turn": 0.25}
LIMITS = {"C": 90.0, "M": 85.0, "Y": 95.0, "K": 100.0}
REPORT = {
    "fit": {"mean": 0.1},
    "held_out": {"mean": 0.4, "p95": 0.9},
    "round_trip": {"mean": 0.1, "p95": 0.3},
    "neutral_dch_max": 0.4,
    "gamut_volume": 500000.0,
    "seconds": 1.0,
}


def person(name: str, role: Role) -> User:
    """An account with a role; its first name is the account's, capitalised."""
    made = User.objects.create_user(
        name, password="a long password", first_name=name.title(), last_name="Rook"
    )
    set_role(made, role)
    return made


def machine(
    name: str = "Petrel 44", model: str = "", site: str = "Quay Street", ink: str = "Tarn pigment"
) -> Printer:
    """A printer with abilities, a carriage and a CMYK ink set."""
    place = Site.objects.get_or_create(name=site)[0]
    made = Printer.objects.create(
        name=name,
        model=model or name,
        site=place,
        serial=f"S-{name}",
        width_mm=1118,
        resolutions=[600, 1200],
        passes=[4, 6, 8, 12],
        abilities=ABILITIES,
        carriage=CARRIAGE,
    )
    made.ink_sets.add(
        InkSet.objects.get_or_create(name=ink, defaults={"channels": list("CMYK"), "kind": "aqueous"})[0]
    )
    connect_all()
    return made


def paper(name: str = "Kelp Synthetic 190", group: str = "synthetic", maker: str = "Sound & Shoal") -> Media:
    """A media in a class of its own name."""
    held = MediaClass.objects.get_or_create(name=group)[0]
    return Media.objects.create(
        name=name, media_class=held, maker=maker, weight=190, thickness=210, width_mm=1067, brightener="faint"
    )


def profile(title: str = "Kelp") -> Profile:
    """A profile whose figures are reported; its bytes are a sound CMYK header."""
    made = Profile.objects.filter(title=title).first()
    return made or Profile.objects.create(
        title=title,
        data=tiny_profile() + title.encode(),
        report=REPORT,
        channels=list("CMYK"),
        boundary=[[20.0] * 72] * 51,
        lightest=95.0,
        darkest=10.0,
    )


def preset(
    media: Media, printer: Printer, handling: dict[str, float] | None = None, name: str = ""
) -> MediaPreset:
    return MediaPreset.objects.create(
        name=name or f"{media.name} on {printer.model}",
        media=media,
        printer_model=printer.model,
        handling=handling or {},
    )


def mode(
    name: str,
    printer: Printer,
    media: Media,
    *,
    state: str = "released",
    passes: int = 8,
    user: User | None = None,
    **values: Any,
) -> PrintMode:
    """A finished mode with limits, curves and a profile."""
    ink_set = printer.ink_sets.get()
    environment = PrintEnvironment(
        printer=printer.model,
        ink_set=ink_set.name,
        media=media.name,
        resolution=values.pop("resolution", 1200),
        passes=passes,
        heat=36.0,
        vacuum=50.0,
    )
    made = PrintMode(
        name=name,
        printer=printer,
        ink_set=ink_set,
        media=media,
        environment=environment.as_dict(),
        environment_hash=environment.content_hash(),
        state=state,
        limits=values.pop("limits", LIMITS),
        total_ink=values.pop("total_ink", 280.0),
        profile=values.pop("profile", None) or profile(),
        made_by=user,
        **values,
    )
    made.curves = CurveSet.straight({c: v / 100 for c, v in LIMITS.items()}).to_csv()
    made.save()
    return made
