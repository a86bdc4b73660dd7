"""Families through their pages: what they cost is said first, a lead lets them print alike, leaving
undoes it.
"""

from __future__ import annotations

import json
from datetime import timedelta
from html import unescape
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from greyanchor.accounts.roles import Role, set_role
from greyanchor.background import queue
from greyanchor.builds.models import Baseline, Restore
from greyanchor.core.calibration.restore import RESTORED
from greyanchor.core.errors import BadInput
from greyanchor.core.profiling.build import ProfileResult
from greyanchor.families import queries, services
from greyanchor.families.models import Family, FamilyWork
from greyanchor.library.models import PrintMode
from greyanchor.measuring.models import Chart, SheetPrint
from greyanchor.profiles.models import Profile
from greyanchor.profiles.services import keep_profile


@pytest.fixture
def two(real_mode: PrintMode, built: ProfileResult, user: User) -> tuple[PrintMode, PrintMode]:
    """A mode, and one of the same kind whose profile renders otherwise."""
    other = PrintMode.objects.get(pk=real_mode.pk)
    other.pk, other.name = None, "At the other site"
    other.profile = keep_profile(
        built, "other", 4, {"total_ink": 240.0, "black_start": 60.0, "quality": "draft"}, {}, user
    )
    other.save()
    Profile.objects.filter(pk=real_mode.profile_id).update(settings={"total_ink": 290.0, "quality": "draft"})
    return PrintMode.objects.get(pk=real_mode.pk), PrintMode.objects.get(pk=other.pk)


@pytest.fixture
def family(two: tuple[PrintMode, PrintMode], user: User) -> Family:
    made = services.make_family("Harbour pair", two, True, user)
    queue.run(made.works.get())
    return Family.objects.get(pk=made.pk)


@pytest.mark.slow
def test_a_family_is_computed_used_and_left(
    family: Family, two: tuple[PrintMode, PrintMode], client: Client, user: User
) -> None:
    work = family.works.first()
    assert work is not None and work.state == FamilyWork.State.DONE, work.error
    pair = family.found["pairs"][0]
    assert pair["after"]["mean"] < 0.5 and pair["after"]["p95"] < 1.5
    assert all(0.0 < v["kept"] <= 100.0 for v in family.found["members"].values())
    assert family.aim is not None and family.aim.name == "Family Harbour pair"
    page = client.get(family.url).content.decode()
    assert "Every pair" in page and "Keeps of its gamut" in page and "Let them print alike" in page
    before = [m.profile_id for m in two]
    sent = {"version": str(family.version)}
    assert client.post(reverse("family-act", args=[family.pk, "use"]), sent).status_code == 302
    modes = [PrintMode.objects.get(pk=m.pk) for m in two]
    assert all(m.profile_id not in before for m in modes)
    assert [m.profile.derived_from_id for m in modes] == before
    assert [s.mode.pk for s in queries.sisters(modes[0])] == [modes[1].pk]
    assert queries.sisters(modes[0])[0].mean == pair["after"]["mean"]
    # two people at one family: the second is told
    stale = client.post(reverse("family-act", args=[family.pk, "end"]), sent, follow=True).content.decode()
    assert "omebody changed Harbour pair since" in stale
    family.refresh_from_db()
    services.end(family, family.version, user)
    assert [PrintMode.objects.get(pk=m.pk).profile_id for m in two] == before
    assert not Family.objects.exists()


def test_what_cannot_be_a_family_is_refused(
    two: tuple[PrintMode, PrintMode], user: User, client: Client
) -> None:
    with pytest.raises(BadInput, match="two modes or more"):
        services.make_family("x", [two[0], two[0]], True, user)
    two[1].profile = None
    two[1].save()
    with pytest.raises(BadInput, match="has no profile"):
        services.make_family("x", two, True, user)
    sent: dict[str, Any] = {"name": "x", "mode": [two[0].pk]}
    answer = client.post(reverse("family-new"), sent)
    assert answer.status_code == 422 and "two modes or more" in answer.content.decode()
    page = client.get(reverse("families")).content.decode()
    assert "No family yet" in page


def test_a_profile_made_meanwhile_is_not_overwritten(
    two: tuple[PrintMode, PrintMode], user: User, client: Client, built: ProfileResult
) -> None:
    made = services.make_family("Harbour pair", two, True, user)
    kept = keep_profile(built, "in between", 4, {}, {}, user)
    for member in made.members.all():
        member.profile = kept
        member.save()
    two[0].profile = keep_profile(built, "newer", 4, {}, {}, user)
    two[0].save()
    made.refresh_from_db()
    with pytest.raises(BadInput, match="another profile by now"):
        services.use_profiles(made, made.version, user)
    assert "has another profile by now" in client.get(made.url).content.decode()
    person = User.objects.create_user("tess", password="a long password")
    set_role(person, Role.TECHNICIAN)
    client.force_login(person)
    assert (
        client.post(reverse("family-act", args=[made.pk, "use"]), {"version": made.version}).status_code
        == 403
    )


def test_a_family_shows_how_true_its_members_were_held(
    two: tuple[PrintMode, PrintMode], user: User, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(queries, "since_last", lambda _mode: None)  # it would want their readings
    family = services.make_family("Harbour pair", two, True, user)
    assert "Held true" not in client.get(family.url).content.decode()
    now = timezone.now()
    for days, off in ((20, 0.3), (10, 1.4), (0, 0.2)):
        sheet = SheetPrint.objects.create(
            chart=Chart.objects.create(purpose="restore", title="short", text="", content_hash=""),
            printer=two[0].printer, environment=two[0].environment, environment_hash="x", sent=[],
        )  # fmt: skip
        baseline, _ = Baseline.objects.get_or_create(mode=two[0], defaults={"confirmed": True})
        made = Restore.objects.create(
            mode=two[0], baseline=baseline, sheet_print=sheet, started_by=user, drift={"mean": off}
        )
        Restore.objects.filter(pk=made.pk).update(started_at=now - timedelta(days=days))
    page = client.get(family.url).content.decode()
    assert "Held true" in page
    svg = page[page.index("Drift of every member") :]
    series = json.loads(unescape(svg.split("data-series='")[1].split("'")[0]))
    assert [(s["name"], s["x"], s["y"]) for s in series] == [
        (two[0].name, [0, 10, 20], [0.3, 1.4, 0.2]),
        ("restored under", [0.0, 21.0], [RESTORED, RESTORED]),
    ]
