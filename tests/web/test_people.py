"""People who forget, leave and come back, and the keys of programs."""

from __future__ import annotations

import json
import re
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.accounts import people
from greyanchor.accounts.models import AuditEntry, ProgramKey, ResetLink
from greyanchor.accounts.roles import Role, set_role
from greyanchor.core.errors import BadInput

NEW = "seven harbours at dusk"


@pytest.fixture
def olga(user: User) -> User:
    made = User.objects.create_user("olga", password="a long password", first_name="Olga", last_name="Stern")
    set_role(made, Role.TECHNICIAN)
    return made


def signed_in(name: str, password: str = "a long password") -> Client:
    made = Client()
    made.post("/sign-in/", {"username": name, "password": password})
    return made


def test_ones_own_password_is_changed_and_other_places_end(olga: User) -> None:
    here, there = signed_in("olga"), signed_in("olga")
    wrong = here.post("/password/", {"old": "nope", "new": NEW, "again": NEW})
    assert wrong.status_code == 422
    assert "does not fit" in wrong.content.decode()
    unlike = here.post("/password/", {"old": "a long password", "new": NEW, "again": NEW + "s"})
    assert "not the same" in unlike.content.decode()
    assert here.post("/password/", {"old": "a long password", "new": NEW, "again": NEW}).status_code == 302
    assert here.get("/modes/").status_code == 200
    assert there.get("/modes/").status_code == 302, "another session ends"
    assert signed_in("olga").get("/modes/").status_code == 302
    assert signed_in("olga", NEW).get("/modes/").status_code == 200


@pytest.mark.parametrize(
    ("password", "said"), [("password1234", "common"), ("Olga-Stern-7", "similar"), ("short", "at least 10")]
)
def test_passwords_that_are_guessed_are_refused(olga: User, password: str, said: str) -> None:
    page = signed_in("olga").post(
        "/password/", {"old": "a long password", "new": password, "again": password}
    )
    assert page.status_code == 422
    assert said in page.content.decode()


def test_a_lead_gives_a_link_that_sets_one_password_once(client: Client, olga: User) -> None:
    before = signed_in("olga")
    client.post(f"/shop/people/{olga.pk}/reset/")
    page = client.get("/shop/").content.decode()
    link = re.search(r"http://testserver(/new-password/[^<]+/)", page)
    assert link is not None
    assert link[1] not in client.get("/shop/").content.decode(), "it is shown once"
    assert ResetLink.objects.get().digest not in link[1]
    visitor = Client()
    weak = visitor.post(link[1], {"new": "password1234", "again": "password1234"})
    assert weak.status_code == 422
    assert visitor.post(link[1], {"new": NEW, "again": NEW}).url == "/sign-in/"
    assert visitor.get(link[1]).status_code == 404
    assert before.get("/modes/").status_code == 302, "sessions end with the old password"
    assert signed_in("olga", NEW).get("/modes/").status_code == 200
    people.reset_link(olga, None)
    ResetLink.objects.update(made_at=timezone.now() - timedelta(hours=25))
    token = people.reset_link(olga, None)
    ResetLink.objects.update(made_at=timezone.now() - timedelta(hours=25))
    assert people.whose_link(token) is None
    with pytest.raises(BadInput, match="too old"):
        people.set_by_link(token, NEW)


def test_whoever_leaves_is_out_at_once_and_may_come_back(client: Client, user: User, olga: User) -> None:
    theirs, key = signed_in("olga"), people.make_key(olga, "shelf")
    bearer = {"Authorization": f"Bearer {key}"}
    assert Client().get("/api/v1/modes", headers=bearer).status_code == 200
    client.post(f"/shop/people/{olga.pk}/leave/")
    assert theirs.get("/modes/").status_code == 302
    assert Client().get("/api/v1/modes", headers=bearer).status_code == 401
    assert signed_in("olga").get("/modes/").status_code == 302
    olga.refresh_from_db()
    with pytest.raises(BadInput, match="let them come back first"):
        people.reset_link(olga, user)
    page = client.get("/shop/").content.decode()
    assert "Left: 1" in page
    client.post(f"/shop/people/{olga.pk}/leave/")
    assert signed_in("olga").get("/modes/").status_code == 200
    assert not ProgramKey.objects.exists(), "keys do not come back"
    said = [f"{e.before} to {e.after}" for e in AuditEntry.objects.filter(what__startswith="Account of")]
    assert "active to left; 1 keys ended" in said


def test_the_last_lead_stays(client: Client, user: User) -> None:
    answer = client.post(f"/shop/people/{user.pk}/leave/")
    assert "is the last lead" in answer.content.decode()
    user.refresh_from_db()
    assert user.is_active


def test_keys_read_alone_run_out_and_leads_see_all_of_them(client: Client, user: User, olga: User) -> None:
    reading, over = people.make_key(olga, "wall", 30, may_write=False), people.make_key(olga, "old", 1)
    ProgramKey.objects.filter(name="old").update(expires_at=timezone.now() - timedelta(minutes=1))
    asked = {"Authorization": f"Bearer {reading}"}
    assert Client().get("/api/v1/modes", headers=asked).status_code == 200
    posted = Client().post("/api/v1/packs", data=b"x", content_type="application/zip", headers=asked)
    assert posted.status_code == 403
    assert "reads alone" in json.loads(posted.content)["error"]
    assert Client().get("/api/v1/modes", headers={"Authorization": f"Bearer {over}"}).status_code == 401
    page = client.get("/shop/").content.decode()
    assert "reads alone" in page
    assert "ran out" in page
    own = signed_in_as_another().get("/shop/").content.decode()
    assert not re.search(r"/shop/keys/\d+/end/", own), "others see their own alone"
    client.post(f"/shop/keys/{ProgramKey.objects.get(name='wall').pk}/end/")
    assert Client().get("/api/v1/modes", headers=asked).status_code == 401
    made = client.post("/shop/keys/make/", {"name": "new", "days": "90", "scope": "read"})
    assert made.status_code == 302
    kept = ProgramKey.objects.get(name="new")
    assert not kept.may_write
    assert kept.expires_at is not None
    with pytest.raises(BadInput, match="1 to 3650"):
        people.make_key(olga, "x", 99999)


def signed_in_as_another() -> Client:
    other = User.objects.create_user("pavel", password="a long password")
    set_role(other, Role.OPERATOR)
    return signed_in("pavel")
