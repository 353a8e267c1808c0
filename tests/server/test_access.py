"""Who may in, and what a person, a token, a stranger can do to another."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace
from typing import Any

import psycopg
import pytest
from django.conf import settings
from django.db import connections
from django.utils import timezone

from server.instance.instance import ROOT
from server.records.people.models import Person
from server.requests import tries
from server.requests.bounds import long_work
from tests.instance import until
from tests.server.test_api import PASSWORD, V1, Client, at_once, send, signed_in
from tests.server.world import DECODER, World, payload, work_off


def sign_in(client: Client, name: str, password: str = PASSWORD, **head: Any) -> int:
    body = {"username": name, "password": password}
    return client.post(V1 + "sign-in", body, content_type="application/json", **head).status_code


def token_of(client: Client, role: str = "viewer") -> tuple[dict[str, Any], dict[str, Any]]:
    made = send(client, "POST", "tokens", {"name": "script", "role": role}).json()
    return {"HTTP_AUTHORIZATION": f"Bearer {made['key']}"}, made


# tries ----------------------------------------------------------------------------
@pytest.fixture
def one_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    """All tries of a test fall into one minute, however long it takes."""
    at = timezone.now()
    monkeypatch.setattr(tries, "timezone", SimpleNamespace(now=lambda: at))


def test_after_ten_tries_in_a_minute_sign_in_waits_also_for_tries_at_once(world: World, one_minute: None) -> None:
    world.person("viewer")
    codes = at_once(lambda _: sign_in(Client(), "viewer", "wrong"), range(24))
    assert codes.count(403) == 10 and codes.count(429) == 14, codes
    assert sign_in(Client(), "viewer") == 429, "nor with the right one"
    assert world.ask("select count(*) from access_record where what = 'sign-in refused'") == [(10,)]


def test_a_forged_address_is_no_way_around(world: World, one_minute: None) -> None:
    world.person("viewer")
    codes = [
        sign_in(Client(), f"name-{i}", "wrong", HTTP_X_FORWARDED_FOR=f"192.0.2.{i}", HTTP_FORWARDED=f"for=192.0.2.{i}")
        for i in range(12)
    ]
    assert codes == [403] * 10 + [429] * 2


def test_nobody_locks_a_name_out_for_the_one_whose_it_is(world: World, one_minute: None) -> None:
    world.person("viewer")
    own = Client()
    assert sign_in(own, "viewer") == 200
    assert send(own, "POST", "sign-out").status_code == 204
    for i in range(15):
        sign_in(Client(REMOTE_ADDR=f"192.0.2.{i}"), "Viewer", "wrong")
    assert sign_in(Client(REMOTE_ADDR="192.0.2.99"), "viewer") == 429, "a browser that is not known waits"
    assert sign_in(own, "viewer") == 200, "the own one does not"
    forged = Client(REMOTE_ADDR="192.0.2.77")
    forged.cookies.load({name: own.cookies[name].value[:-2] + "xx" for name in own.cookies if "browser" in name})
    assert sign_in(forged, "viewer") == 429


# passwords ------------------------------------------------------------------------
def test_the_own_password_is_changed_with_the_old_one_and_ends_sessions_and_tokens(world: World) -> None:
    client, elsewhere = signed_in(world, "engineer"), Client()
    sign_in(elsewhere, "engineer")
    bearer, _ = token_of(client)
    fresh = {"old": PASSWORD, "new": "another long password"}
    assert send(client, "POST", "me/password", {**fresh, "old": "wrong"}).status_code == 403
    assert send(client, "POST", "me/password", {**fresh, "new": "short"}).status_code == 400
    assert send(client, "POST", "me/password", {**fresh, "new": PASSWORD}).status_code == 400
    by_token = Client().post(V1 + "me/password", fresh, content_type="application/json", **bearer)
    assert by_token.status_code == 403, "not by a token"
    assert send(client, "POST", "me/password", fresh).status_code == 200
    assert client.get(V1 + "me").status_code == 200
    assert elsewhere.get(V1 + "me").status_code == 401 and Client().get(V1 + "me", **bearer).status_code == 401
    assert sign_in(Client(), "engineer") == 403 and sign_in(Client(), "engineer", fresh["new"]) == 200


def test_a_first_password_opens_nothing_but_its_change(world: World) -> None:
    from server.rules.passwords import first_password

    password = first_password(Person(username="new", role="admin"))
    client = Client()
    assert sign_in(client, "new", password) == 200
    assert client.get(V1 + "me").json()["must_change_password"] is True
    for path in ("devices", "people", "record", "tokens"):
        assert client.get(V1 + path).json()["code"] == "change password"
    assert send(client, "POST", "me/password", {"old": password, "new": "a password of my own"}).status_code == 200
    assert client.get(V1 + "people").status_code == 200


def test_the_last_administrator_stays_one_also_when_two_go_at_once(world: World) -> None:
    admin = signed_in(world, "admin")
    own = Person.objects.get(username="admin")
    assert send(admin, "PATCH", f"people/{own.pk}", {"role": "viewer"}).json()["code"] == "last admin"
    assert send(admin, "PATCH", f"people/{own.pk}", {"is_active": False}).status_code == 409
    other = Person(username="second", role="admin")
    other.set_password(PASSWORD)
    other.save()
    second = Client()
    sign_in(second, "second")
    both = at_once(
        lambda pair: send(pair[0], "PATCH", f"people/{pair[1]}", {"role": "viewer"}).status_code,
        [(admin, own.pk), (second, other.pk)],
    )
    assert sorted(both) == [200, 409]
    assert Person.objects.filter(role="admin", is_active=True).count() == 1


# tokens ---------------------------------------------------------------------------
def test_a_token_neither_makes_nor_withdraws_tokens(world: World) -> None:
    client = signed_in(world, "admin")
    bearer, made = token_of(client)
    program = Client()
    body = {"name": "more", "role": "viewer"}
    assert program.post(V1 + "tokens", body, content_type="application/json", **bearer).status_code == 403
    assert program.delete(V1 + f"tokens/{made['id']}", **bearer).status_code == 403
    assert len(client.get(V1 + "tokens").json()["results"]) == 1


@pytest.mark.parametrize("key", ["oct_", "oct_a_b", "oct_²_b", "oct_" + "x" * 5000, "oct_a_b_c", "oct__"])
def test_what_is_no_token_is_refused(world: World, key: str) -> None:
    answer = Client().get(V1 + "me", HTTP_AUTHORIZATION=f"Bearer {key}")
    assert answer.status_code == 401 and answer.json()["code"] == "authentication failed"


# names and the record ---------------------------------------------------------------
def test_names_that_differ_by_case_only_are_one(world: World) -> None:
    admin = signed_in(world, "admin")
    new = {"username": "Ada", "name": "Ada", "role": "viewer", "password": PASSWORD}
    assert send(admin, "POST", "people", new).status_code == 201
    assert "already" in send(admin, "POST", "people", {**new, "username": "aDA"}).json()["detail"]
    assert send(admin, "POST", "people", {**new, "username": "ada\u202e"}).status_code == 400
    assert sign_in(Client(), "ADA") == 200, "and whichever way it is typed"
    first = {"kind": "condition", "name": "Level is high", "type": "pod", "draft": ""}
    assert send(admin, "POST", "definitions", first).status_code == 201
    assert send(admin, "POST", "definitions", {**first, "name": "level IS high"}).json()["code"] == "exists"


def test_a_record_says_who_did_it_whatever_the_request_says(world: World) -> None:
    client = signed_in(world, "engineer")
    forged: dict[str, Any] = {"title": "Pod", "who": "admin", "what": "signed in", "about": "nobody"}
    forged |= {"person": None, "detail": {}}
    assert send(client, "PATCH", "devices/pod-0", forged).status_code == 200
    ((who, what, about, detail),) = world.ask(
        "select who, what, about, detail from access_record where what = 'changed device'"
    )
    assert (who, what, about, detail) == ("engineer", "changed device", "pod-0", {"title": "Pod"})


def test_errors_have_one_shape_and_a_number_that_is_in_the_log(world: World, caplog: Any) -> None:
    client = signed_in(world, "viewer")
    with caplog.at_level("INFO", "oculum.problems"):
        answers = [
            client.get(V1 + "nothing-here"),
            client.get(V1 + "devices/none"),
            send(client, "POST", "sites", {}),
            Client().get(V1 + "me"),
            client.post(V1 + "check", "{", content_type="application/json"),
            client.get(V1 + "sign-out"),
            client.post(V1 + "check", "x", content_type="text/plain"),
            client.get("/api/"),
            client.get(V1 + "devices?to=%00"),
            client.get(V1 + "devices/%00"),
        ]
    assert [a.status_code for a in answers] == [404, 404, 403, 401, 400, 405, 415, 404, 400, 400]
    for answer in answers:
        assert answer.headers["Content-Type"] == "application/problem+json"
        body = answer.json()
        assert body["status"] == answer.status_code and body["type"].startswith("urn:oculum:problem:")
        assert body["title"] and body["detail"] and body["instance"].endswith(body["number"])
        assert any(body["number"] in line for line in caplog.messages)


# shares ---------------------------------------------------------------------------
def test_long_work_of_one_person_leaves_room_for_the_others(world: World, engine: Any) -> None:
    """Trials that stand still: two of one person, four in all; everybody is answered meanwhile, and they end well."""
    definition = world.decoder()
    world.arrive((0, 0, payload(3)))
    work_off(engine)
    people = {role: signed_in(world, role) for role in ("viewer", "operator", "engineer")}

    def trial(role: str) -> Any:
        return send(people[role], "POST", f"definitions/{definition.pk}/trial", {"text": DECODER})

    def begin(pool: ThreadPoolExecutor, role: str, busy: int) -> Any:
        def work() -> Any:
            try:
                return trial(role)
            finally:
                connections.close_all()

        future = pool.submit(work)
        until(lambda: long_work.busy.total() == busy or future.done(), "the trial to be under way")
        return future

    with psycopg.connect(world.url) as standing, ThreadPoolExecutor(4) as pool:
        standing.execute("lock table message in access exclusive mode")
        under_way = [begin(pool, "viewer", 1), begin(pool, "viewer", 2)]
        third = trial("viewer")
        assert (third.status_code, third.json()["code"]) == (429, "busy") and "2 of your trials" in third.json()[
            "detail"
        ]
        under_way += [begin(pool, "operator", 3), begin(pool, "operator", 4)]
        assert trial("engineer").status_code == 429
        assert people["viewer"].get(V1 + "me").status_code == 200
        assert people["engineer"].get(V1 + f"definitions/{definition.pk}").status_code == 200
        standing.rollback()
        assert [future.result().status_code for future in under_way] == [200] * 4
    assert long_work.busy.total() == 0 and trial("engineer").status_code == 200


async def abandoned(application: Any, client: Client, path: str, body: dict[str, Any], after: float) -> list[Any]:
    """What a browser gets that goes away after a while."""
    raw, gone, asked = json.dumps(body).encode(), asyncio.Event(), False
    cookies = "; ".join(f"{name}={cookie.value}" for name, cookie in client.cookies.items())
    headers = {"host": "127.0.0.1", "content-type": "application/json", "content-length": str(len(raw))}
    headers |= {"cookie": cookies, "x-csrftoken": client.cookies[settings.CSRF_COOKIE_NAME].value}
    scope = {
        "type": "http", "asgi": {"version": "3.0"}, "http_version": "1.1", "method": "POST", "scheme": "http",
        "path": path, "raw_path": path.encode(), "query_string": b"", "root_path": "", "client": ("127.0.0.1", 1),
        "server": ("127.0.0.1", 80), "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
    }  # fmt: skip
    sent: list[Any] = []

    async def receive() -> dict[str, Any]:
        nonlocal asked
        if not asked:
            asked = True
            return {"type": "http.request", "body": raw, "more_body": False}
        await gone.wait()
        return {"type": "http.disconnect"}

    async def send(message: dict[str, Any]) -> None:
        if gone.is_set():
            raise OSError("the other side is gone")
        sent.append(message)

    asyncio.get_running_loop().call_later(after, gone.set)
    with contextlib.suppress(OSError):
        await application(scope, receive, send)
    return sent


def test_work_that_nobody_waits_for_gives_its_place_back(world: World, engine: Any) -> None:
    """Begun and given up again and again, as a limit is dragged: the next one is answered, and no place stays taken."""
    from server.asgi import application

    definition = world.decoder()
    world.arrive(*((n % 3, n, payload(3)) for n in range(3000)))
    work_off(engine)
    client = signed_in(world, "viewer")
    client.get(V1 + "me")
    path, body = f"{V1}definitions/{definition.pk}/trial/progress", {"text": DECODER}

    async def go() -> list[Any]:
        rng = random.Random(1)
        under_way = []
        for _ in range(30):
            under_way.append(asyncio.create_task(abandoned(application, client, path, body, rng.uniform(0, 0.3))))
            await asyncio.sleep(0.03)  # the pace of somebody who drags
        await asyncio.gather(*under_way)
        return await abandoned(application, client, path, body, 60)

    answer = b"".join(message.get("body", b"") for message in asyncio.run(go()))
    assert "result" in json.loads(answer.splitlines()[-1]), answer[:500]
    until(lambda: long_work.busy.total() == 0, "the places to be free")


def test_cookies_are_secure_behind_a_proxy_that_ends_tls() -> None:
    def told(**environment: str) -> str:
        command = "from server import settings as s; print(s.SESSION_COOKIE_SECURE, s.CSRF_COOKIE_SECURE)"
        mine = {**os.environ, **environment}
        return subprocess.run(
            [sys.executable, "-c", command], env=mine, cwd=ROOT, check=True, stdout=subprocess.PIPE, text=True
        ).stdout.strip()

    assert told() == "False False" and told(OCULUM_PROXIES="127.0.0.1") == "True True"
