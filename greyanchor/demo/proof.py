"""Demo data of proof: what the two print rooms hold their prints to, and twelve weeks of checks."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta

from django.contrib.auth.models import User
from django.utils import timezone

from greyanchor.checks.models import Check
from greyanchor.checks.services import Order, sign_off
from greyanchor.checks.strip_prints import StripChoice, start_check_print
from greyanchor.checks.tolerance_sets import add_set
from greyanchor.checks.trends import set_schedule, watch
from greyanchor.core.verification.shipped import SHIPPED
from greyanchor.core.verification.spots import SpotColour
from greyanchor.core.verification.tolerances import Criterion, Grade
from greyanchor.demo.devices import drift as let_drift
from greyanchor.demo.prints import read_print
from greyanchor.library.models import PrintMode
from greyanchor.profiles.models import AimRecord
from greyanchor.profiles.spots import keep_spots

#: spot colours of the charts, Lab
_SPOTS = {
    "Buoy red": (46.0, 62.0, 38.0),
    "Shoal blue": (68.0, -18.0, -26.0),
    "Chart magenta": (50.0, 66.0, -12.0),
    "Land buff": (86.0, 3.0, 24.0),
    "Deep water": (38.0, -8.0, -34.0),
    "Signal orange": (64.0, 62.0, 78.0),
}
_WEEKS = 12
_DRIFTING, _FAULTY, _PROOF = (
    "Saltmarsh Cotton, archive charts",
    "Fathom Satin, pilot book covers",
    "Harbour Proof, contract proof",
)


def _own_set(user: User) -> str:
    """The ISO proof limits, tightened, with grades, and a group of the shop's own: the blues of water."""
    base = SHIPPED["iso12647-7:2016"]
    tighter = tuple(replace(c, warning=round(0.8 * c.limit, 2)) if c.limit else c for c in base.criteria)
    water = Criterion(
        "water",
        "Water blues, mean",
        "C >= 20 and M <= 60 and Y <= 20 and K <= 10",
        "de00",
        "mean",
        2.0,
        1.6,
        2.0,
    )
    grades = (Grade("harbour", 45.0), Grade("coast", 70.0), Grade("sea", 100.0))
    made = replace(
        base,
        title="Northlight chart proof",
        source="Northlight, from ISO 12647-7:2016",
        edition="2",
        criteria=(*tighter, water),
        grades=grades,
    )
    return add_set(made, base.title, user).key


def _checked(
    mode: PrintMode, order: Order, user: User, at: datetime, drift: dict[str, float], kind: str = "full"
) -> Check:
    """A strip printed on a machine that drifted, read twice, and dated back."""
    let_drift(mode.printer, drift)
    found = start_check_print(mode, order, StripChoice(kind), user)
    read_print(found.sheet_print, 1, user)
    found.refresh_from_db()
    made = Check.objects.get(pk=found.made_check_id)
    Check.objects.filter(pk=made.pk).update(made_at=at)
    let_drift(mode.printer, {})
    made.refresh_from_db()
    return made


def _mode(name: str) -> PrintMode:
    return PrintMode.objects.select_related("printer", "media", "ink_set", "profile").get(name=name)


def seed(users: dict[str, User], aim: AimRecord) -> None:
    """Everything of proof that the demo shows."""
    ines, now = users["ines"], timezone.now()
    spots = {name: SpotColour(name, lab) for name, lab in _SPOTS.items()}
    keep_spots(spots, "Northlight colour book, 3rd edition", ines, False)
    own = _own_set(ines)
    order = Order(aim, "iso12647-7:2016", True)
    kept = (_DRIFTING, _FAULTY, _PROOF, "Kelp Synthetic, deck charts", "Tideline Matt, tide tables")
    Check.objects.filter(mode__name__in=kept).update(made_at=now - timedelta(days=100))
    PrintMode.objects.filter(name__in=kept, state=PrintMode.State.RELEASED).update(
        released_at=now - timedelta(days=99)
    )
    drifting = _mode(_DRIFTING)
    last = None
    for week in range(_WEEKS):
        drift = {"M": 1.0 + 0.004 * week, "Y": 1.0 - 0.003 * week}
        last = _checked(drifting, order, ines, now - timedelta(days=7 * (_WEEKS - week) - 4), drift, "short")
    if last is not None:
        watch(drifting, last)
    proof = _mode(_PROOF)
    graded = _checked(proof, Order(aim, own, True), ines, now - timedelta(days=3), {})
    sign_off(graded.pk, ines)
    _checked(proof, Order(aim, "iso12647-7:2016", True, True, spots), ines, now - timedelta(days=2), {})
    faulty = _mode(_FAULTY)
    _checked(faulty, order, ines, now - timedelta(days=9), {})
    _checked(faulty, order, ines, now - timedelta(hours=5), {"C": 1.22})
    plan = {"aim": aim, "tolerances": "iso12647-7:2016", "corrected": True, "strip": "short"}
    for name, every, begins in ((_DRIFTING, 7, 90), (_FAULTY, 14, 90), ("Kelp Synthetic, deck charts", 7, 8)):
        set_schedule(_mode(name), {**plan, "every_days": every, "begins": now - timedelta(days=begins)}, ines)
