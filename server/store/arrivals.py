"""Messages as a list shows them, with who sent them and what became of them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from server.store.refused import BARE

MOST_BACK = timedelta(days=3)  # so that a rare outcome does not search all of history
MOST_BACK_BY_TOPIC = timedelta(hours=6)
QUERY = """
select m.id, m.received_at, m.device_id, d.name, d.title, t.key, m.unknown_id, u.name, v.name, m.channel, m.topic,
    length(m.payload), substring(m.payload for {shown}), r.code, r.reason, r.line, r.byte
from {source} left join fleet_device d on d.id = m.device_id left join fleet_devicetype t on t.id = d.type_id
left join intake_unknownsender u on u.id = m.unknown_id left join fleet_device v on v.id = m.via_id
left join refused r on r.message_id = m.id
where {where} order by m.received_at desc, m.id desc limit %(limit)s
"""
OF_TYPE = """(
    select p.* from fleet_device f join fleet_devicetype y on y.id = f.type_id
    join lateral (
        select * from message where device_id = f.id and received_at <= %(end)s
        order by received_at desc limit %(limit)s
    ) p on true
    where y.key = %(type)s
) m"""
REFUSED = """(
    select p.* from (
        select message_id, received_at from refused q
        join fleet_device f on f.id = q.device_id join fleet_devicetype y on y.id = f.type_id
        where q.received_at <= %(end)s and (q.code = %(code)s) = %(bare)s
            and (%(type)s = '' or y.key = %(type)s) and (%(device)s = '' or f.name = %(device)s)
        order by q.received_at desc limit %(limit)s
    ) k join message p on p.id = k.message_id and p.received_at = k.received_at
) m"""


@dataclass(frozen=True)
class Arrival:
    """payload: its first bytes, of `size`. code, reason, line, byte: why it was refused, if it was."""

    id: int
    received_at: datetime
    device_id: int | None
    device: str | None
    title: str | None
    type: str | None
    unknown_id: int | None
    unknown: str | None
    via: str | None
    channel: int
    topic: str
    size: int
    payload: bytes
    code: str | None
    reason: str | None
    line: int | None
    byte: int | None


def arrival(cursor: Any, ident: int, shown: int) -> Arrival | None:
    """One message, with as many of its bytes."""
    cursor.execute(QUERY.format(shown=shown, source="message m", where="m.id = %(id)s"), {"id": ident, "limit": 1})
    return next(map(_arrival, cursor.fetchall()), None)


def arrivals(
    cursor: Any,
    end: datetime,
    limit: int,
    shown: int,
    *,
    device: str = "",
    type_: str = "",
    outcome: str = "",
    unknown: int | None = None,
    topic: str = "",
) -> list[Arrival]:
    """Messages up to a moment, newest first: of a device or type by name, of an unknown sender, of one outcome, of
    topics by a filter of MQTT.
    """
    values = {"end": end, "limit": limit, "device": device, "type": type_, "unknown": unknown}
    source, where = "message m", ["m.received_at <= %(end)s"]
    if outcome in ("refused", BARE):
        source, values["code"], values["bare"] = REFUSED, BARE, outcome == BARE
    elif device:
        where.append("m.device_id = (select id from fleet_device where name = %(device)s)")
    elif unknown is not None:
        where.append("m.unknown_id = %(unknown)s")
    elif type_:
        source = OF_TYPE
    else:
        where.append("m.received_at > %(since)s")
        values["since"] = end - MOST_BACK
    if topic:
        where += ["m.topic ~ %(topic)s", "m.received_at > %(of_topic)s"]
        values |= {"topic": topic_pattern(topic), "of_topic": end - MOST_BACK_BY_TOPIC}
    if outcome == "unknown sender":
        where.append("m.unknown_id is not null")
    elif outcome == "decoded":
        where.append("r.code is null and m.device_id is not null")
    cursor.execute(QUERY.format(shown=shown, source=source, where=" and ".join(where)), values)
    return [_arrival(row) for row in cursor.fetchall()]


def _arrival(row: tuple[Any, ...]) -> Arrival:
    cells: list[Any] = [bytes(cell) if isinstance(cell, memoryview) else cell for cell in row]
    return Arrival(*cells)


def topic_pattern(topic: str) -> str:
    """A filter of MQTT as PostgreSQL's regular expression."""
    levels = ["[^/]*" if level == "+" else re.escape(level) for level in topic.split("/")]
    if levels[-1] == "\\#" or levels[-1] == "#":
        return "^" + "/".join(levels[:-1]) + ("(/.*)?$" if len(levels) > 1 else "")
    return "^" + "/".join(levels) + "$"


def worked_off(cursor: Any) -> int:
    """Up to which message every engine has come."""
    cursor.execute("select coalesce(min(id), 0) from engine_cursor")
    return int(cursor.fetchone()[0])


def engine_behind(cursor: Any) -> tuple[datetime | None, int]:
    """When the engine that has come least far was last there, and how many messages wait for it; at most 100,000."""
    cursor.execute(
        "select c.at, (select count(*) from (select 1 from message where id > c.id limit 100000) x) from engine_cursor"
        " c order by c.id limit 1"
    )
    return cursor.fetchone() or (None, 0)


def arrived_lately(cursor: Any, end: datetime, span: timedelta) -> tuple[int, int]:
    """Messages that came within a span before a moment, and those of them from unknown senders."""
    cursor.execute(
        "select count(*), count(*) filter (where device_id is null) from message where received_at > %s and"
        " received_at <= %s",
        (end - span, end),
    )
    messages, unknown = cursor.fetchone()
    return int(messages), int(unknown)


def was_heard(cursor: Any, device: int) -> bool:
    """Whether a device ever sent anything, spoke for another, or has readings."""
    cursor.execute(
        "select exists (select 1 from latest where device_id = %(id)s)"
        " or exists (select 1 from message where device_id = %(id)s or via_id = %(id)s)"
        " or exists (select 1 from reading_row where device_id = %(id)s)"
        " or exists (select 1 from reading_sealed where device_id = %(id)s)",
        {"id": device},
    )
    return bool(cursor.fetchone()[0])


def give_over(cursor: Any, unknown: int, device: int) -> None:
    """All that an unknown sender sent is of a device from here on. Has the stream's turn, so that nothing comes
    meanwhile.
    """
    one = {"device": device, "unknown": unknown, "code": BARE}
    cursor.execute("update message set device_id = %(device)s, unknown_id = null where unknown_id = %(unknown)s", one)
    cursor.execute(
        "insert into refused (message_id, received_at, device_id, code, reason) select id, received_at, device_id,"
        " %(code)s, 'arrived before the device was adopted' from message where device_id = %(device)s on conflict"
        " do nothing",
        one,
    )
    cursor.execute(
        "insert into activity (device_id, hour, messages, failed) select device_id, date_trunc('hour', received_at,"
        " 'UTC'), count(*), count(*) from message where device_id = %(device)s group by 1, 2 on conflict do nothing",
        one,
    )
    cursor.execute(
        "insert into latest select device_id, id, received_at, (select count(*) from message where device_id ="
        " %(device)s), true, '{}' from message where device_id = %(device)s order by received_at desc limit 1 on"
        " conflict do nothing",
        one,
    )
    cursor.execute(
        "insert into activity_unsummed select distinct hour from activity where device_id = %(device)s on conflict do"
        " nothing",
        one,
    )
