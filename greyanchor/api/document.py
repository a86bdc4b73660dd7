"""The interface described in OpenAPI 3.1; tests hold every answer to it."""

from __future__ import annotations

from typing import Any

_TEXT, _WHOLE, _NUMBER = {"type": "string"}, {"type": "integer"}, {"type": "number"}
_MAYBE_TEXT, _MAYBE_NUMBER, _MAYBE_WHOLE = (
    {"type": ["string", "null"]},
    {"type": ["number", "null"]},
    {"type": ["integer", "null"]},
)
_OBJECT = {"type": "object"}


def _shape(properties: dict[str, Any], base: str = "") -> dict[str, Any]:
    """An object that has all of these, and nothing else where it has no base."""
    made = {"type": "object", "required": list(properties), "properties": properties}
    return {"allOf": [{"$ref": f"#/components/schemas/{base}"}, made]} if base else made


def _list(of: Any) -> dict[str, Any]:
    return {"type": "array", "items": of}


def _ref(name: str) -> dict[str, Any]:
    return {"$ref": f"#/components/schemas/{name}"}


_SCHEMAS: dict[str, Any] = {
    "Refusal": _shape({"error": _TEXT}),
    "Mode": _shape(
        {
            "id": _WHOLE,
            "name": _TEXT,
            "state": {"enum": ["building", "ready", "released", "retired"]},
            "version": _WHOLE,
            "printer": _TEXT,
            "site": _TEXT,
            "ink_set": _TEXT,
            "media": _TEXT,
            "media_class": _TEXT,
            "maker": _TEXT,
            "resolution": _MAYBE_WHOLE,
            "passes": _MAYBE_WHOLE,
            "speed_m2h": _MAYBE_NUMBER,
            "verdict": {"enum": ["pass", "fail", "none"]},
            "calibrated_at": _MAYBE_TEXT,
            "changed_at": _TEXT,
            "url": _TEXT,
        }
    ),
    "WholeMode": _shape(
        {
            "environment": _OBJECT,
            "limits": {"type": "object", "additionalProperties": _NUMBER},
            "total_ink": _MAYBE_NUMBER,
            "note": _TEXT,
            "handling": {
                "type": "object",
                "additionalProperties": _shape(
                    {
                        "value": _NUMBER,
                        "unit": _TEXT,
                        "source": {"enum": ["printer", "class", "preset", "mode"]},
                    }
                ),
            },
            "editions": _list(_WHOLE),
            "profile_url": _MAYBE_TEXT,
            "pack_url": _TEXT,
        },
        "Mode",
    ),
    "Modes": _shape({"total": _WHOLE, "page": _WHOLE, "pages": _WHOLE, "modes": _list(_ref("Mode"))}),
    "Import": _shape(
        {
            "id": _WHOLE,
            "name": _TEXT,
            "step": {"enum": ["test", "plan", "write", "done"]},
            "state": {"enum": ["waiting", "queued", "running", "done", "failed", "cancelled", "interrupted"]},
            "message": _TEXT,
            "progress": _NUMBER,
            "modes": _list(_shape({"name": _TEXT, "action": {"enum": ["create", "same", "clash"]}})),
            "result": _OBJECT,
            "url": _TEXT,
        }
    ),
    "Check": _shape(
        {
            "id": _WHOLE,
            "mode": _MAYBE_WHOLE,
            "aim": _TEXT,
            "tolerances": _TEXT,
            "verdict": {"enum": ["pass", "fail"]},
            "summary": _TEXT,
            "made_at": _TEXT,
            "signed": {"type": "boolean"},
            "url": _TEXT,
        }
    ),
    "WholeCheck": _shape({"criteria": _list(_OBJECT)}, "Check"),
    "Checks": _shape({"total": _WHOLE, "checks": _list(_ref("Check"))}),
    "Charts": _shape(
        {
            "charts": _list(
                _shape(
                    {
                        "print": _WHOLE,
                        "title": _TEXT,
                        "purpose": _TEXT,
                        "patches": _WHOLE,
                        "printer": _MAYBE_TEXT,
                    }
                )
            )
        }
    ),
    "Delivery": _shape({"outcome": {"enum": ["taken", "refused"]}, "reason": _TEXT, "print": _MAYBE_WHOLE}),
    "DeliveryRefused": {"anyOf": [_ref("Delivery"), _ref("Refusal")]},
}


def _json(name: str, text: str) -> dict[str, Any]:
    return {"description": text, "content": {"application/json": {"schema": _ref(name)}}}


def _binary(kind: str, text: str) -> dict[str, Any]:
    return {"description": text, "content": {kind: {"schema": {"type": "string", "format": "binary"}}}}


def _asked(name: str, schema: dict[str, Any], text: str, place: str = "query") -> dict[str, Any]:
    return {"name": name, "in": place, "required": place == "path", "schema": schema, "description": text}


_PK = _asked("id", _WHOLE, "primary key", "path")
_NARROWING = [
    _asked(n, {"type": "array", "items": _TEXT}, t)
    for n, t in (
        ("state", "building, ready, released or retired"),
        ("printer", "primary key"),
        ("site", "primary key"),
        ("ink_set", "primary key"),
        ("media_class", "primary key"),
        ("maker", "name"),
        ("media", "primary key"),
        ("resolution", "dpi"),
        ("passes", "number"),
        ("verdict", "pass, fail or none"),
        ("made_by", "primary key"),
    )
]


def _operation(
    text: str, answers: dict[str, Any], asked: list[dict[str, Any]] | None = None, body: str = ""
) -> dict[str, Any]:
    refusals = {
        "401": _json("Refusal", "no key, or one that is ended"),
        "403": _json("Refusal", "the person's role does not reach that far"),
    }
    if asked and _PK in asked:
        refusals["404"] = _json("Refusal", "there is no such record")
    if body:
        refusals["400"] = _json("Refusal", "a form that is not understood")
        refusals["413"] = _json("Refusal", "the body is too large")
    made: dict[str, Any] = {"summary": text, "responses": {**answers, **refusals}}
    if asked:
        made["parameters"] = asked
    if body:
        made["requestBody"] = {
            "required": True,
            "content": {body: {"schema": {"type": "string", "format": "binary"}}},
        }
    return made


def document() -> dict[str, Any]:
    """The whole description."""
    name = _asked("name", _TEXT, "name of the file")
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Grey Anchor",
            "version": "1",
            "description": (
                "Fetch the right print mode, deliver a pack or a reading. A key of a person goes "
                "with every request; what the person may do, the program may."
            ),
        },
        "servers": [{"url": "/api/v1"}],
        "security": [{"key": []}],
        "paths": {
            "/modes": {
                "get": _operation(
                    "Print modes, narrowed and searched",
                    {"200": _json("Modes", "a page of modes")},
                    [
                        _asked("q", _TEXT, "words in names and notes"),
                        *_NARROWING,
                        _asked("sort", _TEXT, "a column, with - for downwards"),
                        _asked("page", _WHOLE, "from 1"),
                    ],
                )
            },
            "/modes/{id}": {
                "get": _operation(
                    "One print mode with limits and handling settings",
                    {"200": _json("WholeMode", "the mode")},
                    [_PK],
                )
            },
            "/modes/{id}/profile.icc": {
                "get": _operation(
                    "Its ICC profile",
                    {
                        "200": _binary("application/vnd.iccprofile", "the profile"),
                        "422": _json("Refusal", "it has none"),
                    },
                    [_PK],
                )
            },
            "/modes/{id}/pack.zip": {
                "get": _operation(
                    "The mode as a pack",
                    {"200": _binary("application/zip", "the pack")},
                    [_PK, _asked("edition", _WHOLE, "as it was released")],
                )
            },
            "/packs": {
                "post": _operation(
                    "Deliver a pack; a person decides what becomes of it",
                    {
                        "202": _json("Import", "it is being tested"),
                        "422": _json("Refusal", "it cannot be taken"),
                    },
                    [name],
                    "application/zip",
                )
            },
            "/packs/{id}": {
                "get": _operation("How an import goes", {"200": _json("Import", "the import")}, [_PK])
            },
            "/checks": {
                "get": _operation(
                    "Checks, the newest first",
                    {"200": _json("Checks", "up to 200")},
                    [_asked("mode", _WHOLE, "primary key"), _asked("verdict", _TEXT, "pass or fail")],
                )
            },
            "/checks/{id}": {
                "get": _operation(
                    "One check with its criteria", {"200": _json("WholeCheck", "the check")}, [_PK]
                )
            },
            "/charts": {
                "get": _operation("Prints that wait for readings", {"200": _json("Charts", "up to 200")})
            },
            "/charts/{id}/chart.txt": {
                "get": _operation(
                    "The chart of a print that waits: device values and places, CGATS",
                    {"200": _binary("text/plain", "the chart")},
                    [_PK],
                )
            },
            "/readings": {
                "post": _operation(
                    "Deliver readings of a print (CGATS, CxF or CSV)",
                    {
                        "201": _json("Delivery", "used as a pass"),
                        "422": _json("DeliveryRefused", "of no open print, or no readings"),
                    },
                    [_asked("print", _WHOLE, "the print they are of; found when left out"), name],
                    "text/plain",
                )
            },
        },
        "components": {"schemas": _SCHEMAS, "securitySchemes": {"key": {"type": "http", "scheme": "bearer"}}},
    }
