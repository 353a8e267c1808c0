"""Whatever is sent to whichever endpoint: an error with a code and a sentence, never a failure of the server, and
nothing is lost.
"""

from __future__ import annotations

import json
import string
from typing import Any

import pytest
from django.urls import URLPattern
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oculum.language.definitions import format_definition
from server.api.urls import urlpatterns
from server.records.definitions.models import Definition
from tests.often import examples
from tests.server.test_api import Client, send, signed_in
from tests.server.world import DECODER, World, payload, work_off

LEFT_OUT = {
    "api/v1/definitions/<id:ident>/retire",
    "api/v1/sign-in",
    "api/v1/sign-out",
    "api/v1/schema",
    "api/v1/docs",
    "alive",
}
BODIES: list[Any] = [
    {},
    [],
    "text",
    7,
    None,
    {
        "text": 5,
        "name": ["x"],
        "draft": {},
        "value": {},
        "number": "NaN",
        "labels": "a=b",
        "expect": [],
        "start": "yesterday",
    },
]
junk = st.recursive(
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(-(2**70), 2**70),
        st.floats(allow_nan=False, allow_infinity=False),
        st.text(max_size=12),
    ),
    lambda inner: st.lists(inner, max_size=3),
    max_leaves=4,
)
NAMES = [
    "text",
    "kind",
    "type",
    "line",
    "draft",
    "draft_number",
    "payload_hex",
    "received_at",
    "headers",
    "constants",
    "previous_hex",
    "name",
    "title",
    "value",
    "valid_from",
    "number",
]
NAMES += [
    "labels",
    "site",
    "share",
    "first",
    "last",
    "length",
    "messages",
    "days",
    "device",
    "start",
    "end",
    "state",
    "expect",
    "why",
    "despite_cases",
    "fields",
    "setpoints",
    "cadence_s",
]


def paths() -> list[tuple[str, Any]]:
    found = []
    for pattern in urlpatterns:
        assert isinstance(pattern, URLPattern)
        route = str(pattern.pattern)
        if route.startswith("api/v1/") and route not in LEFT_OUT:
            for part, word in (
                ("<id:ident>", "1"),
                ("<id:pk>", "1"),
                ("<id:case>", "1"),
                ("<id:incident>", "1"),
                ("<str:key>", "pod"),
                ("<str:name>", "pod-0"),
            ):
                route = route.replace(part, word)
            found.append((route.removeprefix("api/v1/"), pattern.callback.view_class))  # type: ignore[union-attr,attr-defined]
    return found


def fine(answer: Any, what: object) -> None:
    assert answer.status_code < 500, (what, answer.status_code)
    if answer.status_code >= 400:
        error = json.loads(answer.content)
        assert error["code"] and len(error["detail"]) > 3 and "ErrorDetail" not in error["detail"], (what, error)


@pytest.fixture
def engineer(world: World, engine: Any) -> Client:
    definition = world.decoder()
    client = signed_in(world, "admin")
    body = {
        "name": "one",
        "payload_hex": payload(3).hex(),
        "received_at": "2026-01-01T00:00:00Z",
        "expect": {"error": "checksum"},
    }
    assert send(client, "POST", f"definitions/{definition.pk}/cases", body).status_code == 201
    world.arrive((0, 0, payload(3)), (1, 1, b"\x00"))
    work_off(engine)
    return client


def test_every_endpoint_answers_nonsense_with_an_error(engineer: Client) -> None:
    for path, view in paths():
        for method in ("POST", "PUT", "PATCH", "DELETE"):
            if not hasattr(view, method.lower()) or (method == "DELETE" and path in ("devices/pod-0", "people/1")):
                continue
            for body in BODIES:
                fine(send(engineer, method, path, body), (method, path, body))
        fine(
            engineer.get(
                f"/api/v1/{path}",
                {"limit": "x", "offset": "-1", "from": "tomorrow", "to": "2", "version": "x", "field": "nothing"},
            ),
            path,
        )
        fine(engineer.generic("POST", f"/api/v1/{path}", b'{"a": ', content_type="application/json"), path)
    definition = Definition.objects.get(name="pod")
    assert definition.live is not None
    assert definition.versions.get(number=1).text == format_definition(DECODER)


@settings(max_examples=examples(45), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(body=st.dictionaries(st.sampled_from(NAMES), junk, max_size=8), place=st.integers(0, 10**6))
def test_no_body_makes_the_server_fail(engineer: Client, body: dict[str, Any], place: int) -> None:
    reads = [(p, m) for p, view in paths() for m in ("POST", "PUT", "PATCH") if hasattr(view, m.lower())]
    path, method = reads[place % len(reads)]
    fine(send(engineer, method, path, body), (method, path, body))


@settings(max_examples=examples(45), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(text=st.text(string.printable, max_size=200), line=st.integers(1, 8))
def test_any_text_is_checked_formed_and_laid_out_or_refused(engineer: Client, text: str, line: int) -> None:
    for path, body in (
        ("check", {"kind": "decoder", "text": text}),
        ("form", {"text": DECODER + text, "line": line}),
        ("format", {"text": text}),
        ("decode", {"text": text, "payload_hex": "00ff"}),
    ):
        fine(send(engineer, "POST", path, body), (path, body))
