"""What works and what does not, part by part: the same answer for `status`, `up` and `/healthz`."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from datetime import datetime
from typing import Any

import psycopg

from server.instance.instance import Instance
from server.instance.processes import Lock
from server.instance.pulse import life
from server.runner.keeper import DEMO, parts, running
from server.runner.stack import listens

STALE_S = 15.0
WAITING_MOST = 1_000_000


@dataclass(frozen=True)
class PartHealth:
    """One part: whether it does its work, and if not, what keeps it from it."""

    works: bool
    what: str = ""
    pid: int | None = None


@dataclass(frozen=True)
class Stream:
    """What waits for the engine, and what retention goes by."""

    waiting: int | None = None
    oldest_s: float | None = None
    taken: int | None = None
    last_batch: datetime | None = None


@dataclass(frozen=True)
class Health:
    parts: dict[str, PartHealth]
    stream: Stream
    notices: list[str] = field(default_factory=list)

    @property
    def whole(self) -> bool:
        return all(part.works for part in self.parts.values())

    def as_dict(self) -> dict[str, Any]:
        return {"status": "whole" if self.whole else "impaired", **asdict(self)}


def health(instance: Instance) -> Health:
    """Asks every part. Takes at most some seconds, also where nothing answers."""
    pids = running(instance)
    stream, notices, database = _database(instance)
    found = {
        "postgres": PartHealth(not database, database, pids["postgres"]),
        "broker": _broker(instance, pids["broker"]),
        "keeper": _keeper(instance, pids["keeper"]),
    }
    for name in parts(instance):
        if name in DEMO and not (instance.folder / "demo.json").exists():
            continue
        found[name] = _process(instance, name, pids[name])
    return Health(found, stream, notices)


def _broker(instance: Instance, pid: int | None) -> PartHealth:
    if not listens(instance.broker_port):
        return PartHealth(False, f"nothing listens on port {instance.broker_port}", pid)
    return PartHealth(True, "", pid)


def _keeper(instance: Instance, pid: int | None) -> PartHealth:
    if not Lock(instance.folder, "keeper").held():
        return PartHealth(False, "nobody starts again what ends", None)
    return PartHealth(True, "", pid)


def _process(instance: Instance, name: str, pid: int | None) -> PartHealth:
    if pid is None:
        return PartHealth(False, "not running")
    found = life(instance.folder, name)
    if found is None or found.pid != pid:
        return PartHealth(False, "starting", pid)
    if found.age > STALE_S:
        return PartHealth(False, f"has not gone on for {found.age:.0f} s", pid)
    return PartHealth(not found.troubles, found.words, pid)


def _database(instance: Instance) -> tuple[Stream, list[str], str]:
    """What waits, notices for people, and what is wrong with the database."""
    try:
        with psycopg.connect(instance.database_url(), connect_timeout=3, autocommit=True) as connection:
            connection.execute("set statement_timeout = '5s'")
            if connection.execute("select to_regclass('engine_cursor')").fetchone() == (None,):
                return Stream(), [], "the tables are not made yet"
            row = connection.execute(
                "select w.waiting, w.oldest, c.messages, c.at, k.leapt_from, k.leapt_at"
                " from (select coalesce(min(id), 0) as id, sum(messages)::bigint as messages, max(at) as at"
                " from engine_cursor) c"
                " cross join lateral (select count(*) as waiting, extract(epoch from now() - min(received_at)) as"
                " oldest"
                f" from (select received_at from message where id > c.id order by id limit {WAITING_MOST}) x) w"
                " left join kept_clock k on true"
            ).fetchone()
    except psycopg.Error as error:
        return Stream(), [], f"the database does not answer: {str(error).strip().splitlines()[0][:200]}"
    assert row is not None
    waiting, oldest, taken, last, leapt_from, leapt_at = row
    notices = []
    if leapt_at is not None:
        notices.append(
            f"the clock leapt from {leapt_from:%Y-%m-%d %H:%M} to {leapt_at:%Y-%m-%d %H:%M} UTC: nothing is deleted"
            " for its age until `./oculum clock --accept` says that it is right"
        )
    return Stream(waiting, float(oldest) if oldest is not None else None, taken or 0, last), notices, ""
