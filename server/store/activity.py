"""How many messages came when, and how many of them were refused."""

from __future__ import annotations

from datetime import datetime

from django.db import connection


def rhythm(device_ids: list[int], start: datetime, end: datetime, most: int) -> dict[int, tuple[list[int], list[int]]]:
    """Messages and refused ones by device and bucket of (start, end], in at most `most` buckets.

    Up to two days the messages themselves are counted, beyond that whole hours.
    """
    seconds = (end - start).total_seconds()
    fine = seconds <= 2 * 86_400
    buckets = most if fine else -(-int(seconds / 3600) // max(-(-int(seconds / 3600) // most), 1))
    span = seconds / buckets
    query = (
        "select m.device_id, least(floor(extract(epoch from (m.received_at - %(start)s)) / %(span)s), %(last)s)::int,"
        " count(*), count(r.message_id)"
        " from message m left join refused r on r.message_id = m.id where m.device_id = any(%(ids)s) and"
        " m.received_at > %(start)s and m.received_at <= %(end)s group by 1, 2"
        if fine
        else "select device_id, least(greatest(floor(extract(epoch from (hour - %(start)s)) / %(span)s), 0),"
        " %(last)s)::int, sum(messages), sum(failed) from activity"
        " where device_id = any(%(ids)s) and hour >= date_trunc('hour', %(start)s, 'UTC') and hour < %(end)s group by"
        " 1, 2"
    )
    with connection.cursor() as cursor:
        cursor.execute(query, {"start": start, "end": end, "span": span, "last": buckets - 1, "ids": device_ids})
        rows = cursor.fetchall()
    found: dict[int, tuple[list[int], list[int]]] = {d: ([0] * buckets, [0] * buckets) for d in device_ids}
    for device_id, bucket, messages, failed in rows:
        found[device_id][0][bucket] += int(messages)
        found[device_id][1][bucket] += int(failed)
    return found
