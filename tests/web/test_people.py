"""People who forget, leave and come back, and the keys of programs."""

from __future__ import annotations

import base64
import json
import re
import time
from datetime import timedelta
from typing import Any
from unittest import mock

import pyotp
import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from greyanchor.accounts import people, second_factor
from greyanchor.accounts.models import AuditEntry, ProgramKey, ResetLink, SecondFactor
from greyanchor.accounts.roles import Role, set_role
from greyanchor.core.errors import BadInput

PASSWORD = "a long password"
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


def _code(user: User, step: int = 0) -> str:
    """What an authenticator shows for a person, some half minutes from now (another library's word)."""
    return pyotp.TOTP(SecondFactor.objects.get(user=user).secret).at(int(time.time()) + 30 * step)


def test_codes_are_those_of_the_standard() -> None:
    """RFC 6238, appendix B, SHA-1, the last six of eight digits."""
    secret = base64.b32encode(b"12345678901234567890").decode()
    for at, code in ((59, "287082"), (1111111109, "081804"), (20000000000, "353130")):
        with mock.patch("greyanchor.accounts.second_factor.time.time", lambda at=at: at):
            assert second_factor._step_of(secret, code) == at // 30
            assert second_factor._step_of(secret, "000000") is None


def _typed(client: Client, name: str = "olga") -> Any:
    return client.post("/sign-in/", {"username": name, "password": PASSWORD, "next": "/modes/"})


def test_a_second_factor_is_asked_for_and_each_code_counts_once(client: Client, olga: User) -> None:
    client.force_login(olga)
    assert "<svg" in client.get("/account/").content.decode()
    client.post("/account/factor/on/", {"code": "000000"})
    assert not SecondFactor.objects.get(user=olga).confirmed_at
    client.post("/account/factor/on/", {"code": _code(olga)})
    page = client.get("/account/").content.decode()
    spare = re.findall(r"\b\d{8}\b", page)
    assert len(spare) == 8 and "shown this once" in page
    assert not re.findall(r"\b\d{8}\b", client.get("/account/").content.decode())
    visitor = Client()
    led = _typed(visitor)
    assert led.status_code == 302 and led["Location"] == "/sign-in/code/"
    assert visitor.get("/modes/").status_code == 302, "the password alone opens nothing"
    assert visitor.post("/sign-in/code/", {"code": _code(olga)}).status_code == 422, "taken already"
    done = visitor.post("/sign-in/code/", {"code": _code(olga, 1)})
    assert done["Location"] == "/modes/" and visitor.get("/modes/").status_code == 200
    other = Client()
    _typed(other)
    assert other.post("/sign-in/code/", {"code": spare[0]})["Location"] == "/modes/"
    third = Client()
    _typed(third)
    assert third.post("/sign-in/code/", {"code": spare[0]}).status_code == 422


def test_codes_cannot_be_tried_out(client: Client, olga: User) -> None:
    client.force_login(olga)
    client.get("/account/")
    client.post("/account/factor/on/", {"code": _code(olga)})
    visitor = Client()
    _typed(visitor)
    for _ in range(6):
        visitor.post("/sign-in/code/", {"code": "123456"})
    answer = visitor.post("/sign-in/code/", {"code": _code(olga, 1)})
    assert answer.status_code == 422 and "too many wrong codes" in answer.content.decode().lower()


def test_the_rules_require_a_second_factor_and_a_lead_ends_one(
    client: Client, user: User, olga: User
) -> None:
    client.force_login(user)
    answer = client.post(
        "/shop/access/", {"version": 1, "idle_hours": 12, "longest_days": 30, "second_factor": "everybody"}
    )
    assert answer.status_code == 302 and AuditEntry.objects.filter(what__icontains="second factor").exists()
    visitor = Client()
    assert _typed(visitor)["Location"] == "/account/"
    assert visitor.get("/modes/")["Location"] == "/account/", "nothing else before it is set up"
    visitor.get("/account/")
    visitor.post("/account/factor/on/", {"code": _code(olga)})
    assert visitor.get("/modes/").status_code == 200
    refused = visitor.post("/account/factor/off/", {"password": PASSWORD}, follow=True)
    assert "require a second factor" in refused.content.decode()
    client.post(f"/shop/people/{olga.pk}/factor/")
    assert not SecondFactor.objects.filter(user=olga).exists()


def test_idle_and_long_sessions_end_and_a_page_that_asks_by_itself_keeps_none_alive(olga: User) -> None:
    visitor, now = Client(), time.time()
    visitor.force_login(olga)

    def at(hours: float, script: bool = False) -> int:
        with mock.patch("greyanchor.accounts.access.time.time", lambda: now + 3600 * hours):
            return visitor.get("/modes/", headers={"HX-Request": "true"} if script else {}).status_code

    assert at(0) == 200 and at(11) == 200 and at(22) == 200
    assert at(30, script=True) == 200 and at(33.9, script=True) == 200
    assert at(34.5) == 302, "twelve hours after the last step, whatever the page asked meanwhile"
    visitor.force_login(olga)
    for hours in range(40, 40 + 24 * 31, 8):
        if at(hours) != 200:
            break
    assert 24 * 30 < hours - 40 <= 24 * 30 + 16
    assert "The session was over" in visitor.get("/sign-in/").content.decode()


def test_a_forgotten_password_is_set_by_a_link_in_the_mail(
    olga: User, settings: Any, mailoutbox: Any
) -> None:
    settings.EMAIL_HOST = "mail.example"
    visitor = Client()
    assert "/sign-in/forgotten/" in visitor.get("/sign-in/").content.decode()
    said = [visitor.post("/sign-in/forgotten/", {"name": n}, follow=True).content for n in ("olga", "nobody")]
    assert b"a link is on its way" in said[0] and b"a link is on its way" in said[1] and not mailoutbox
    visitor.force_login(olga)
    visitor.post("/account/mail/", {"address": "olga@northlight.example"})
    Client().post("/sign-in/forgotten/", {"name": "Olga"})
    (mail,) = mailoutbox
    assert mail.to == ["olga@northlight.example"]
    (link,) = re.findall(r"http://testserver(/new-password/\S+)", mail.body)
    fresh = "three grey herons"
    assert Client().post(link, {"new": fresh, "again": fresh}).status_code == 302
    olga.refresh_from_db()
    assert olga.check_password(fresh)


def test_the_audit_log_is_for_leads_found_by_filters_and_written_out(
    client: Client, user: User, olga: User
) -> None:
    visitor = Client()
    visitor.force_login(olga)
    assert visitor.get("/shop/audit/").status_code == 403
    assert visitor.get("/shop/audit.csv").status_code == 403
    client.force_login(user)
    client.post("/shop/sites/add/", {"name": "=1+1 Quay"})
    client.post("/shop/sites/add/", {"name": "North room"})
    client.get("/shop/")  # which says what was done just now
    page = client.get("/shop/audit/?words=Quay&kind=changes").content.decode()
    assert "=1+1 Quay" in page and "North room" not in page
    assert "North room" not in client.get(f"/shop/audit/?who={olga.pk}").content.decode()
    assert "North room" not in client.get("/shop/audit/?until=2020-01-01").content.decode()
    table = b"".join(client.get("/shop/audit.csv").streaming_content).decode()
    assert "'=1+1 Quay" in table and ",=1+1" not in table, "no spreadsheet runs it"


def test_too_many_wrong_passwords_are_answered_in_the_dress_of_the_product(olga: User, settings: Any) -> None:
    settings.AXES_ENABLED = True
    visitor = Client()
    for _ in range(9):
        answer = visitor.post("/sign-in/", {"username": "olga", "password": "wrong"})
    page = answer.content.decode()
    assert answer.status_code == 429 and "Too many wrong passwords" in page and "Grey Anchor" in page
