"""Whose duty it is: weeks in turn, exceptions, days off; words of one's own; and a broker that takes what is told."""

from __future__ import annotations

import json
import socket
import threading
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from server.delivery.duty import away, in_turn, told_at
from server.delivery.outlets import Message, NotTaken
from server.delivery.ways import send
from server.records.telling.models import Chain, Contact, Delivery, Outlet
from tests.server.test_api import send as ask
from tests.server.test_api import signed_in
from tests.server.test_intake import broker as broker
from tests.server.test_telling import CONDITION, arrive
from tests.server.test_telling import out as out
from tests.server.test_telling import worker as worker
from tests.server.world import World

V1 = "/api/v1/"
MONDAY = date(2026, 3, 2)
ZONE = "Atlantic/Azores"  # an hour is left out on the 29th of March


def duty(weeks: list[int], **more: Any) -> Contact:
    rota = {"begins": MONDAY.isoformat(), "at": "08:00", "weeks": weeks, "exceptions": []} | more
    return Contact(pk=9, name="the shift", zone=ZONE, rota=rota)


@given(st.integers(0, 400), st.integers(0, 23), st.integers(1, 5))
def test_weeks_go_round_and_are_handed_over_on_the_clock_of_the_zone(day: int, hour: int, many: int) -> None:
    """Beside a count of the Mondays at eight that have gone by, one after the other."""
    local = datetime(2026, 3, 2, tzinfo=ZoneInfo(ZONE)) + timedelta(days=day, hours=hour)
    handed, at = 0, datetime(2026, 3, 9, 8)
    while at <= local.replace(tzinfo=None):
        handed, at = handed + 1, at + timedelta(days=7)
    if local.replace(tzinfo=None) < datetime(2026, 3, 2, 8):
        handed = -1  # before it begins the one before the first has it
    turns = in_turn(duty(list(range(many))), local.astimezone(UTC))
    assert turns[0] == handed % many and sorted(turns) == list(range(many))


def test_exceptions_and_days_off_give_the_duty_to_the_next() -> None:
    people = {
        k: Contact(
            pk=k, name=f"p{k}", zone="UTC", days_off=[{"from": "2026-03-04", "to": "2026-03-05"}] if k == 1 else []
        )
        for k in (1, 2, 3)
    }
    shift = duty([1, 2], exceptions=[{"from": "2026-03-07", "to": "2026-03-07", "contact": 3}])
    everyone = {**people, 9: shift}

    def told(day: int, hour: int = 12) -> list[int]:
        return [c.pk for c in told_at([9], everyone, datetime(2026, 3, day, hour, tzinfo=UTC))]

    assert [told(day) for day in (3, 4, 5, 6, 7, 8, 10)] == [[1], [2], [2], [1], [3], [1], [2]]
    assert told(8, 7) == [3], "the day of a duty begins when it is handed over"
    assert away(people[1], datetime(2026, 3, 4, 0, tzinfo=UTC)) and not away(
        people[1], datetime(2026, 3, 6, tzinfo=UTC)
    )
    only = {1: people[1]}
    assert [c.pk for c in told_at([1], only, datetime(2026, 3, 4, 12, tzinfo=UTC))] == [1], "somebody is told"
    assert [c.pk for c in told_at([1, 2], people, datetime(2026, 3, 4, 12, tzinfo=UTC))] == [2]


def test_a_rota_is_kept_shown_and_told(world: World, engine: Any, worker: Any, out: Any) -> None:
    client = signed_in(world, "engineer")
    outlet = Outlet.objects.create(name="mail", kind="mail", settings={"host": "x", "port": 25, "sender": "a@b"})

    def contact(name: str, **more: Any) -> dict[str, Any]:
        body = {"name": name, "zone": "UTC", "addresses": [{"outlet": outlet.pk, "to": f"{name}@sandrel.invalid"}]}
        answer = ask(client, "POST", "contacts", body | more)
        assert answer.status_code == 201, answer.content
        made: dict[str, Any] = answer.json()
        return made

    today = datetime.now(UTC).date()
    maud = contact("maud", days_off=[{"from": str(today - timedelta(days=1)), "to": str(today + timedelta(days=1))}])
    jory = contact("jory")
    rota = {"begins": str(today - timedelta(days=1)), "at": "00:00", "weeks": [maud["id"], jory["id"]]}
    shift = contact("shift", addresses=[], rota=rota)
    assert shift["on_duty"] == "jory", "maud has the day off"
    Chain.objects.create(name="desk", steps=[{"after_s": 0, "contacts": [shift["id"]]}], tells=["raised"])
    world.decoder()
    world.condition(CONDITION)
    arrive(world, engine, (0, 8))
    worker.step()
    assert [to for to, _ in out.sent] == ["jory@sandrel.invalid"]
    assert Delivery.objects.get().contact.name == "jory"  # type: ignore[union-attr]
    assert ask(client, "DELETE", f"contacts/{jory['id']}").status_code == 409
    backwards = {"from": "2026-03-02", "to": "2026-03-01", "contact": jory["id"]}
    for wrong, why in (
        ({"rota": rota | {"weeks": []}}, "1 to 52 contacts"),
        ({"rota": rota | {"weeks": [shift["id"]]}}, "none of them a rota itself"),
        ({"rota": rota | {"at": "8 h"}}, "handed over"),
        (
            {"rota": rota | {"exceptions": [backwards]}},
            "backwards",
        ),
        ({"days_off": [{"from": "tomorrow"}]}, "dates such as"),
        ({"addresses": [], "rota": None}, "or a rota of others"),
    ):
        refused = ask(client, "POST", "contacts", {"name": "x", "zone": "UTC", "addresses": []} | wrong)
        assert refused.status_code == 400 and why in json.dumps(refused.json()), refused.content


def test_an_outlet_has_words_of_its_own_shown_with_a_real_alarm(
    world: World, engine: Any, worker: Any, out: Any
) -> None:
    client = signed_in(world, "engineer")
    nothing = ask(client, "POST", "outlets/preview", {"subject": "", "text": ""})
    assert nothing.status_code == 404
    settings = {"host": "mail.invalid", "port": 25, "security": "none", "sender": "a@sandrel.invalid"}
    own = settings | {"subject": "{place}: {value} ({limit})", "text": "{priority} at {site}\nsee {link}{step}"}
    outlet = ask(client, "POST", "outlets", {"name": "own", "kind": "mail", "settings": own}).json()
    maud = Contact.objects.create(name="maud", addresses=[{"outlet": outlet["id"], "to": "maud@sandrel.invalid"}])
    Chain.objects.create(name="desk", steps=[{"after_s": 0, "contacts": [maud.pk]}], tells=["raised"])
    world.decoder()
    world.condition(CONDITION)
    arrive(world, engine, (0, 8))
    worker.step()
    [(_, message)] = out.sent
    assert message.subject == "Pod 0: 8 m (5 m)" and message.text.startswith("high at The Reach\nsee http")
    shown = ask(client, "POST", "outlets/preview", {"subject": own["subject"], "text": own["text"], "device": "pod-0"})
    assert (shown.json()["subject"], shown.json()["text"]) == (message.subject, message.text)
    odd = ask(client, "POST", "outlets", {"name": "odd", "kind": "mail", "settings": settings | {"text": "{colour}"}})
    assert odd.status_code == 400 and "`{colour}` stands for nothing" in json.dumps(odd.json())


# MQTT --------------------------------------------------------------------------------------
def events(*names: str) -> Message:
    return Message((7,), "s", "t", tuple({"id": str(n), "data": {"text": name}} for n, name in enumerate(names)))


def test_a_broker_takes_what_is_told(world: World, broker: Any) -> None:
    """The real broker, by an account that may publish: each event is acknowledged."""
    own = {"host": "127.0.0.1", "port": broker.broker_port, "tls": False, "user": "pod-0", "topic": "up/pod-0"}
    key = world.keys["pod-0"]
    long = "x" * 20_000
    sent = send("mqtt", own, key, "", events("one", long), {"127.0.0.1"})
    assert sent.answer == "2 acknowledged by the broker" and sent.request.startswith("PUBLISH up/pod-0, QoS 1")
    with pytest.raises(NotTaken, match="did not let Oculum in: (wrong user name or password|not authorised)"):
        send("mqtt", own, "another key", "", events("one"), {"127.0.0.1"})
    with pytest.raises(OSError, match="an administrator can allow the host"):
        send("mqtt", own, key, "", events("one"), set())


@pytest.mark.parametrize(
    ("answers", "why"),
    [
        ([b""], "closed the connection"),
        ([b"HTTP/1.1 400"], "not expected"),
        ([b"\x20\x02\x00\x03"], "it is not available"),
        ([b"\x20\x02\x00\x00", b"\x40\x02\x00\x09"], "acknowledged packet 9, 1 was expected"),
    ],
)
def test_what_is_no_broker_is_said(answers: list[bytes], why: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:

        def serve() -> None:
            other, _ = server.accept()
            with other:
                for answer in answers:
                    other.recv(4096)
                    other.sendall(answer)

        thread = threading.Thread(target=serve)
        thread.start()
        own = {"host": "127.0.0.1", "port": server.getsockname()[1], "tls": False, "topic": "a"}
        with pytest.raises(NotTaken, match=why):
            send("mqtt", own, "", "", events("one"), {"127.0.0.1"})
        thread.join()


def test_outlets_of_mqtt_are_checked(world: World) -> None:
    client = signed_in(world, "engineer")
    own = {"host": "broker.invalid", "port": 8883, "topic": "sound/alarms", "user": "oculum"}
    made = ask(client, "POST", "outlets", {"name": "mq", "kind": "mqtt", "settings": own, "secret": "word"})
    assert made.status_code == 201 and made.json()["settings"]["tls"] is True and "word" not in made.content.decode()
    for wrong in ({"topic": "a/#"}, {"topic": ""}, {"topic": "$SYS/x"}, {"port": 0}, {"host": "a b"}):
        refused = ask(client, "POST", "outlets", {"name": "no", "kind": "mqtt", "settings": own | wrong})
        assert refused.status_code == 400, wrong
    contact = {"name": "wall", "zone": "UTC", "addresses": [{"outlet": made.json()["id"], "to": "sound/+"}]}
    assert ask(client, "POST", "contacts", contact).status_code == 400
