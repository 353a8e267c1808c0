"""The whole API from its own document: who may do what, and that nothing anybody sends makes the server fail."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from functools import cache
from typing import Any
from urllib.parse import quote

import pytest
import schemathesis
from drf_spectacular.generators import SchemaGenerator
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

from server.records.people.models import ROLES
from tests.often import examples
from tests.server.test_api import Client, signed_in
from tests.server.test_bad_input import fine
from tests.server.world import World, payload, work_off

# Every operation stands here by the least role that may do it. A new one without a line fails the test below.
TABLE = {
    "open": "sign_in send_message health live_feed live_readings",
    "viewer": (
        "alarm alarm_lines alarm_quality alarm_sheet alarm_summary alarms arrival arrivals change_me change_password"
        " chain chains check chosen colleagues contact contacts deliveries outlet outlets who_is_told"
        " constants curves decode journal_file"
        " decoding_again"
        " definition definitions_cases_list definitions_list definitions_versions_list device devices effect failing"
        " crossings fence fence_versions fences_file fences_list"
        " form format from_table guess itself journal language lookback map map_ground me overview photo"
        " preview_decoding_again"
        " refusals rollout run_cases runs series sign_out site sites_list tokens_create tokens_destroy tokens_list"
        " notes setpoint_history setpoint_past setpoints setpoints_file"
        " track definitions_incidents_list suggest_limits trace_condition trial trial_with_progress type types_list"
        " unknown_senders_list why_alarm why_reading"
        " archive archive_file book_of_routes devices_file flow_of_readings readings_of_outlet table table_file tables"
        " among bands handover health_of_devices history newest rhythm"
        " selections shift shifts spread storage try_order try_routes watch"
    ),
    "operator": (
        "acknowledge assign give_back mark_incident note remove_incident send_again set_setpoint shelve unshelve"
        " remove_note write_note"
        " bring_setpoints discard_readings keep_selection remove_selection set_setpoints"
    ),
    "engineer": (
        "add_case add_device add_onboarding adopt cancel_decoding_again change_case change_device change_rollout"
        " change_fence change_site change_type decode_again definitions_create delete_device delete_fence delete_site"
        " delete_type give_key"
        " hold_device instruct let_go_device"
        " onboarding pause_decoding_again publish put_in_force record_list remove_case remove_constant"
        " bring_fences"
        " remove_photo retire save_draft set_constant set_photo fences_create sites_create succeed types_create"
        " withdraw_rollout add_chain add_contact add_outlet change_chain change_contact change_outlet remove_chain"
        " add_shift change_shift remove_shift send_shift"
        " add_table bring_devices change_devices change_table order_routes remove_table"
        " preview_message switch_off switch_on propose remove_contact remove_outlet test_outlet"
    ),
    "admin": (
        "allow_host apply_archive forbid_host reached_hosts people_create people_list people_partial_update"
        " keep people_retrieve watch_itself"
    ),
}
NEEDED = {name: role for role, names in TABLE.items() for name in names.split()}
IN_DJANGO = sorted(set(NEEDED) - {"send_message", "health", "live_feed", "live_readings"})
# Placed last, or left out of what is sent at random: they end what the others need.
ENDING = {"sign_out", "change_password"}


@cache
def document() -> dict[str, Any]:
    return SchemaGenerator().get_schema(request=None, public=True)  # type: ignore[no-untyped-call]


def operations() -> Iterator[tuple[str, str, str]]:
    """Name, method and path of everything in the document."""
    for path, methods in document()["paths"].items():
        for method, operation in methods.items():
            yield operation["operationId"], method.upper(), path


def filled(path: str, **more: str) -> str:
    given_ = {"ident": "1", "id": "1", "case": "1", "incident": "1", "key": "pod", "name": "pod-0", **more}
    if path.endswith("/setpoints/{name}"):
        given_["name"] = "level_max"
    if path.startswith("/api/v1/sites/"):
        given_["name"] = "reach"
    return re.sub(r"\{(\w+)\}", lambda m: given_[m[1]], path)


def test_every_operation_has_its_line_in_the_table() -> None:
    assert {name for name, _, _ in operations()} == set(NEEDED)


@pytest.mark.parametrize("role", ["stranger", *ROLES])
def test_each_role_may_do_what_the_table_says_and_no_more(world: World, engine: Any, role: str) -> None:
    world.decoder()
    world.arrive((0, 0, payload(3)))
    work_off(engine)
    client = Client() if role == "stranger" else signed_in(world, role)
    rank = -1 if role == "stranger" else ROLES.index(role)
    for name, method, path in sorted(operations(), key=lambda o: o[0] in ENDING):
        needed = NEEDED[name]
        if name not in IN_DJANGO or needed == "open":
            continue
        answer = client.generic(method, filled(path), "{}", content_type="application/json")
        if rank < 0:
            assert answer.status_code == 401, (name, answer.content)
        elif rank < ROLES.index(needed):
            assert answer.status_code == 403, (name, answer.content)
            assert answer.json()["detail"] == f"this takes the role {needed}; yours is {role}"
        else:
            assert answer.status_code not in (401, 403), (name, answer.content)


# whatever is sent -------------------------------------------------------------------
@pytest.fixture
def everybody(world: World, engine: Any) -> dict[str, Client]:
    """A caller of each role, in a world where the things that are asked about are there."""
    world.decoder()
    world.condition()
    world.arrive((0, 0, payload(3)), (0, 60, payload(9)), (0, 130, payload(9)), (1, 1, b"\x00"))
    work_off(engine)
    return {role: signed_in(world, role) for role in ROLES} | {"stranger": Client()}


NASTY = [
    "",
    "0",
    "-1",
    "²",
    "\0",
    "\ud800",
    "%00",
    "9" * 30,
    "1e400",
    "NaN",
    "null",
    "'",
    '"',
    "[]",
    "{}",
    "\u202e",
    "..",
    "0001-01-01T00:00:00Z",
    "9999-12-31T23:59:59-23:59",
    "x" * 300,
    "true",
    "2147483648",
    "9223372036854775808",
]


@cache
def strategies() -> dict[str, Any]:
    schema = schemathesis.openapi.from_dict(document())
    found = {}
    for result in schema.get_all_operations():
        operation = result.ok()  # type: ignore[union-attr]
        name = operation.definition.raw["operationId"]
        if name in IN_DJANGO and name not in ENDING:
            found[name] = operation
    return found


def ask(client: Client, case: Any, odd: str | None, place: int) -> Any:
    """One generated request; sometimes one of its parts is something that no part expects."""
    query = dict(case.query) if isinstance(case.query, dict) else {}
    path = filled(case.operation.path) if place % 3 else case.operation.path
    for name, value in (case.path_parameters or {}).items():
        path = path.replace(
            "{" + name + "}",
            quote(str(odd if odd is not None and place % 5 == 4 else value), safe="", errors="surrogatepass"),
        )
    body = case.body if case.body is not schemathesis.core.NotSet() else {}
    if odd is not None and isinstance(body, dict) and body and place % 2:
        key = sorted(body, key=str)[place % len(body)]
        body = {**body, key: odd}
    if odd is not None and place % 2 == 0:
        names = [p["name"] for p in case.operation.definition.raw.get("parameters", []) if p["in"] == "query"]
        query |= {names[place % len(names)] if names else "limit": odd}
    pairs = [(str(k), v if isinstance(v, str) else json.dumps(v)) for k, v in query.items()]
    text = "&".join(f"{quote(k, errors='surrogatepass')}={quote(v, errors='surrogatepass')}" for k, v in pairs)
    raw = json.dumps(body, default=str).encode()
    tag = str(odd)[:50].encode("latin-1", "ignore").decode("latin-1")
    headers: dict[str, Any] = {"HTTP_IF_MATCH": tag} if place % 7 == 0 else {}
    return client.generic(
        case.operation.method.upper(), f"{path}?{text}", raw, content_type="application/json", **headers
    )


@seed(9)
@settings(
    max_examples=examples(250),
    deadline=None,
    phases=[Phase.generate],
    suppress_health_check=[
        HealthCheck.function_scoped_fixture,
        HealthCheck.too_slow,
        HealthCheck.filter_too_much,
        HealthCheck.data_too_large,
    ],
)
@given(data=st.data())
def test_nothing_that_is_sent_makes_the_server_fail(everybody: dict[str, Client], data: st.DataObject) -> None:
    name = data.draw(st.sampled_from(sorted(strategies())))
    operation = strategies()[name]
    mode = data.draw(st.sampled_from(list(schemathesis.GenerationMode)))
    role = data.draw(st.sampled_from(["admin", "admin", "admin", "engineer", "operator", "viewer", "stranger"]))
    odd = data.draw(st.one_of(st.none(), st.sampled_from(NASTY)))
    place = data.draw(st.integers(0, 10**6))
    try:
        strategy = operation.as_strategy(generation_mode=mode)
    except schemathesis.errors.SchemathesisError:
        strategy = operation.as_strategy(generation_mode=schemathesis.GenerationMode.POSITIVE)
    case = data.draw(strategy)
    answer = ask(everybody[role], case, odd, place)
    if answer.streaming:
        answer.close()
        return
    fine(answer, (name, role, case, odd, answer.content[:500]))
    if answer.status_code >= 400:
        assert answer.headers["Content-Type"] == "application/problem+json"
