"""Conditions begun from a question: each text is sound, and its numbers are those of the past."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import pytest
from django.utils import timezone

from oculum.language.conditions import check_condition
from server.records.fleet.models import Fence
from server.rules.plans import units
from server.store.rows import specs
from server.trials.proposing import QUESTIONS
from tests.server.test_api import send, signed_in
from tests.server.world import START, World, payload, work_off


@pytest.fixture
def past(world: World, engine: Any) -> datetime:
    """A level that goes up and down between 10 and 20 m over two days, one reading every ten minutes."""
    world.decoder()
    first = (timezone.now() - timedelta(days=2) - START).total_seconds()
    world.arrive(*[(0, first + 600 * n, payload(10 + 10 * abs((n % 100) - 50) / 50)) for n in range(288)])
    work_off(engine)
    world.type.refresh_from_db()
    return timezone.now()


@pytest.mark.parametrize("question", QUESTIONS)
def test_every_question_gives_a_condition_that_can_be_published(world: World, past: datetime, question: str) -> None:
    Fence.objects.create(name="ring", feature={"geometry": {"type": "Point", "coordinates": [1, 2]},
                                               "properties": {"radius_m": 9}})  # fmt: skip
    client = signed_in(world, "engineer")
    asked = {"type": "pod", "question": question, "field": "level"}
    answer = send(client, "POST", "definitions/propose", asked)
    if question == "outside":
        assert answer.status_code == 400 and answer.json()["detail"] == "Pod gives no position"
        return
    found = answer.json()
    types = {"pod": (specs(world.type.fields), units(world.type.setpoints))}
    plan, problems = check_condition(found["text"], types)
    assert plan is not None and [p.message for p in problems if p.severity == "error"] == [], found["text"]
    assert plan.name == found["name"] and found["because"]


def test_the_numbers_are_those_of_the_past(world: World, past: datetime) -> None:
    client = signed_in(world, "engineer")

    def asked(question: str) -> dict[str, Any]:
        body = {"type": "pod", "question": question, "field": "level"}
        found: dict[str, Any] = send(client, "POST", "definitions/propose", body).json()
        return found

    assert "level > setpoint level_max" in asked("too high")["text"], "the type has a limit for it already"
    low = asked("too low")
    assert "level < 10 m deadband 0.6 m held 2 min" in low["text"] and low["because"].startswith("288 values")
    assert "rate(level, 3 h) > 1.2 m/h" in asked("changed fast")["text"]
    assert "silent(3 * cadence)" in asked("quiet")["text"]
    assert "messages(6 h) < 180" in asked("too little")["text"]
    wrong = send(client, "POST", "definitions/propose", {"type": "pod", "question": "too high", "field": "mood"})
    assert wrong.status_code == 400 and "it has level, temp" in wrong.json()["detail"]
