"""The interface for programs, held to its own description."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.test import Client
from jsonschema import Draft202012Validator

from greyanchor.accounts import people
from greyanchor.accounts.models import ProgramKey
from greyanchor.accounts.roles import Role
from greyanchor.api.interface import api
from greyanchor.builds.models import Build
from greyanchor.checks.models import Check
from greyanchor.core.formats import cgats
from greyanchor.library.models import PackImport, PrintMode
from greyanchor.measuring.models import SheetPrint
from tests.web.conftest import stage_of
from tests.web.exchange.conftest import readings_text
from tests.web.library_kit import machine, mode, paper, person


class Program:
    """Another program with a key; every answer is held to the description."""

    def __init__(self, person_: User) -> None:
        self.key, self.client = people.make_key(person_, "job desk"), Client()
        self.description = api.get_openapi_schema()

    def ask(
        self,
        path: str,
        method: str = "GET",
        data: Any = None,
        kind: str = "application/octet-stream",
        key: str | None = None,
    ) -> Any:
        address, _, query = path.partition("?")
        headers = {"Authorization": f"Bearer {self.key if key is None else key}"}
        answer = self.client.generic(
            method,
            f"/api/v1{address}" + (f"?{query}" if query else ""),
            data or b"",
            content_type=kind,
            headers=headers,
        )
        self._hold(address, method, answer)
        return answer

    def _hold(self, address: str, method: str, answer: Any) -> None:
        template = "/api/v1" + "/".join("{pk}" if part.isdigit() else part for part in address.split("/"))
        operation = self.description["paths"].get(template, {}).get(method.lower())
        if operation is None:
            assert answer.status_code in (401, 404, 405), address
            return
        described = operation["responses"].get(answer.status_code)
        assert described is not None, (
            f"{method} {address} answered {answer.status_code}, which is not described"
        )
        content = described["content"]
        if "application/json" in content:
            schema = {**content["application/json"]["schema"], "components": self.description["components"]}
            Draft202012Validator(schema).validate(answer.json())
        else:
            assert answer["Content-Type"] in content


@pytest.fixture
def shelf(user: User) -> list[PrintMode]:
    printer, media = machine(), paper()
    return [
        mode("Deck charts", printer, media, user=user, last_verdict="pass"),
        mode("Archive", printer, media, state="retired", passes=12),
    ]


def test_the_description_is_one_and_names_every_address() -> None:
    found = Client().get("/api/v1/openapi.json").json()
    assert found["openapi"] == "3.1.0"
    for schema in found["components"]["schemas"].values():
        Draft202012Validator.check_schema(schema)
    assert {path.removeprefix("/api/v1") for path in found["paths"]} == {
        "/modes",
        "/modes/{pk}",
        "/modes/{pk}/profile.icc",
        "/modes/{pk}/pack.zip",
        "/packs",
        "/packs/{pk}",
        "/checks",
        "/checks/{pk}",
        "/charts",
        "/charts/{pk}/chart.txt",
        "/readings",
        "/artwork",
        "/artwork/{pk}",
        "/jobs",
        "/jobs/{pk}",
        "/print-files/{pk}/planes.tif",
        "/prints",
        "/prints/{pk}",
        "/prints/{pk}/picture.png",
        "/prints/{pk}/go",
        "/prints/{pk}/hold",
        "/prints/{pk}/cancel",
    }, "addresses that other programs already use"


def test_a_program_fetches_the_right_mode_with_its_profile_and_pack(
    shelf: list[PrintMode], user: User
) -> None:
    program = Program(user)
    assert (
        program.ask("/modes?q=dekc").json()["total"] == 1
        and program.ask("/modes?q=zebra").json()["total"] == 0
    )
    one = program.ask("/modes?q=deck&state=released").json()["modes"][0]
    assert one["name"] == "Deck charts" and one["speed_m2h"] > 1
    whole = program.ask(f"/modes/{one['id']}").json()
    assert whole["limits"]["C"] == 90 and whole["handling"]["vacuum"] == {
        "value": 50,
        "unit": "%",
        "source": "printer",
    }
    assert program.ask(f"/modes/{one['id']}/profile.icc").content == bytes(shelf[0].profile.data)
    with zipfile.ZipFile(io.BytesIO(program.ask(f"/modes/{one['id']}/pack.zip").content)) as archive:
        assert json.loads(archive.read("manifest.json"))["modes"][0]["name"] == "Deck charts"
    assert (
        program.ask("/modes/999").status_code == 404
        and program.ask(f"/modes/{one['id']}/pack.zip?edition=7").status_code == 404
    )


def test_without_a_key_with_an_ended_one_and_beyond_the_role(shelf: list[PrintMode], user: User) -> None:
    program = Program(user)
    for key in ("", "ga_wrong", "x" * 500):
        answer = program.ask("/modes", key=key)
        assert answer.status_code == 401 and "WWW-Authenticate" in answer
    assert ProgramKey.objects.get().digest != program.key and ProgramKey.objects.get().used_at is None
    assert program.ask("/modes", "DELETE").status_code == 405
    assert program.ask("/modes").status_code == 200
    assert ProgramKey.objects.get().used_at is not None
    people.end_key(ProgramKey.objects.get().pk, user)
    assert program.ask("/modes").status_code == 401
    operator = Program(person("ada", Role.OPERATOR))
    assert (
        operator.ask("/packs", "POST", b"PK", "application/zip").status_code == 403
        and not PackImport.objects.exists()
    )
    gone = person("left", Role.LEAD)
    program = Program(gone)
    gone.is_active = False
    gone.save()
    assert program.ask("/modes").status_code == 401


def test_a_session_opens_no_door_and_a_key_is_shown_once(client: Client, user: User) -> None:
    assert client.get("/api/v1/modes").status_code == 401
    client.post("/shop/keys/make/", {"name": "job desk"})
    page = client.get("/shop/").content.decode()
    key = page.split('<code class="mono">')[1].split("<")[0]
    assert key.startswith("ga_") and key not in client.get("/shop/").content.decode()
    assert Client().get("/api/v1/modes", headers={"Authorization": f"Bearer {key}"}).status_code == 200
    other = person("tobias", Role.TECHNICIAN)
    with pytest.raises(ValueError, match="no such key"):
        people.end_key(ProgramKey.objects.get().pk, other)


def test_a_pack_is_delivered_and_its_import_followed(shelf: list[PrintMode], user: User) -> None:
    program = Program(user)
    data = program.ask(f"/modes/{shelf[0].pk}/pack.zip").content
    made = program.ask("/packs?name=deck.zip", "POST", data, "application/zip")
    assert made.status_code == 202 and PackImport.objects.get().name == "deck.zip"
    assert program.ask(f"/packs/{made.json()['id']}").json()["step"] == "test"
    assert program.ask("/packs", "POST").status_code == 422
    assert program.ask("/packs", "POST", b"x" * (41 * 2**20), "application/zip").status_code == 413


def test_a_program_delivers_a_reading_to_the_chart_it_belongs_to(
    printed: SheetPrint, user: User, build: Build
) -> None:
    program = Program(user)
    found = program.ask("/charts").json()["charts"]
    assert [c["print"] for c in found] == [printed.pk] and found[0]["patches"] == len(printed.chart.patches)
    chart = cgats.loads(program.ask(f"/charts/{printed.pk}/chart.txt").content, "chart.txt")
    assert chart.ids == printed.chart.patches.ids and np.allclose(chart.device, printed.chart.patches.device)
    made = program.ask("/readings?name=pass1.txt", "POST", readings_text(printed), "text/plain")
    assert made.status_code == 201 and made.json() == {"outcome": "taken", "reason": "", "print": printed.pk}
    assert (
        program.ask(
            f"/readings?print={printed.pk}", "POST", readings_text(printed, 2), "text/plain"
        ).status_code
        == 201
    )
    assert printed.passes.count() == 2 and stage_of(build, "ink-limits").result
    twice = program.ask(f"/readings?print={printed.pk}", "POST", readings_text(printed, 2), "text/plain")
    assert twice.status_code == 422 and "figures of pass 2 once more" in twice.json()["reason"]
    for body in (b"nonsense", b"", cgats.dumps(printed.chart.patches).encode()):
        refused = program.ask("/readings", "POST", body, "text/plain")
        assert refused.status_code == 422, body[:20]
    assert printed.passes.count() == 2


def test_checks_are_listed_for_programs(shelf: list[PrintMode], user: User) -> None:
    made = Check.objects.create(
        mode=shelf[0],
        tolerances="x",
        verdict="pass",
        summary="s",
        readings="r",
        readings_hash="h",
        criteria=[{"id": "mean"}],
    )
    program = Program(user)
    assert program.ask(f"/checks?mode={shelf[0].pk}&verdict=pass").json()["total"] == 1
    assert program.ask("/checks?verdict=fail").json()["total"] == 0
    for odd in ("x", "9" * 30):
        assert program.ask(f"/checks?mode={odd}").json()["total"] == 0
    assert program.ask("/readings", "POST", b"no form", "multipart/form-data").status_code == 400
    assert program.ask(f"/checks/{made.pk}").json()["criteria"] == [{"id": "mean"}]
