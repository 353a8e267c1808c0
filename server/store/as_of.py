"""The register as it was at a past moment.

A schema of views that are named as the tables they stand for. While somebody looks at the past it comes first in the
search path of the transaction, so that whatever reads devices, sites, types, fences, setpoints and definitions in force
reads them as they were, by the code that reads them as they are. Other columns are those of now.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime, timedelta
from typing import Any

from django.db import connection, transaction

BACK = timedelta(minutes=1), timedelta(hours=1), timedelta(days=8)

# A number of the stream is set for the transaction. `was` answers, of what has changed since, how it was there; of what
# came later, how it was first.
GROUND = """
create schema as_of;
create function as_of.place() returns bigint language sql stable as
    $$ select current_setting('oculum.place')::bigint $$;
create function as_of.was(kind text) returns table (id bigint, there boolean, "row" jsonb) language sql stable as $$
    select n.id, b.row is not null, case when b.id is null then n.row else b.row end from
    (select distinct on (c.id) c.id, c.row from public.register_change c where c.what = kind and
        c.number > as_of.place() order by c.id, c.number) n
    left join lateral (select c.id, c.row from public.register_change c where c.what = kind and c.id = n.id and
        c.number <= as_of.place() order by c.number desc limit 1) b on true
$$;
create view as_of.setpoint as
    select distinct on (body->>'type', body->>'name', body->>'site', body->>'device')
    (body->>'type')::integer as type, body->>'name' as name, (body->>'site')::integer as site,
    (body->>'device')::integer as device, (body->>'value')::float8 as value from public.control_event
    where kind = 'setpoint' and id <= as_of.place()
    order by body->>'type', body->>'name', body->>'site', body->>'device', id desc;
create view as_of.ruled as
    select id, at, kind, person_id, (body->>'definition')::integer as definition, body from public.control_event
    where kind in ('publish', 'retire', 'off', 'rollout') and id <= as_of.place();
create view as_of.ordered as
    with said as (
        select o.one::integer as definition, o.place from (select body from public.control_event
            where kind = 'order' and id <= as_of.place() order by id desc limit 1) e
        cross join lateral jsonb_array_elements_text(e.body->'routes') with ordinality o(one, place)
    ), behind as (
        select r.definition, min(r.id) as first from as_of.ruled r join public.definitions_definition d
        on d.id = r.definition and d.kind = 'route' where r.kind = 'publish' and
        r.definition not in (select definition from said) group by r.definition
    )
    select definition, place::integer from said union all
    select definition, ((select count(*) from said) + row_number() over (order by first))::integer from behind;

create view as_of.fleet_setpoint as
    select (row_number() over ())::integer as id, name, value, device as device_id, site as site_id, type as type_id
    from as_of.setpoint where value is not null and (site is not null or device is not null);
create view as_of.definitions_rollout as
    select (row_number() over ())::integer as id, body->'labels' as labels,
    coalesce((body->>'share')::smallint, 100::smallint) as share, at as began_at, definition as definition_id,
    person_id, (body->>'site')::integer as site_id, (body->>'version')::integer as version_id
    from (select distinct on (definition) * from as_of.ruled order by definition, id desc) x
    where kind = 'rollout' and body->>'version' is not null;
create view as_of.definitions_hold as
    select (row_number() over ())::integer as id, coalesce(n.why, '') as why, h.at, h.person_id, h.device as device_id,
    h.version as version_id
    from (select distinct on (body->>'device') id, at, person_id, (body->>'device')::integer as device,
        (body->>'version')::integer as version
        from public.control_event where kind = 'hold' and id <= as_of.place() order by body->>'device', id desc) h
    left join public.definitions_hold n on n.device_id = h.device and n.version_id = h.version
    where h.version is not null and not exists (select 1 from as_of.ruled r where r.kind = 'retire' and r.id > h.id
        and (r.body->'versions') @> to_jsonb(h.version));
"""
TABLES = "register_change", "control_event", "fleet_setpoint", "definitions_rollout", "definitions_hold"
# By table: of its columns (as `t`) what they were, and where from; what is gone since, if it is told of.
WAS = {
    "fleet_device": (
        {
            "name": "coalesce(w.row->>'name', t.name)",
            "title": "coalesce(w.row->>'title', t.title)",
            "type_id": "coalesce((w.row->>'type')::integer, t.type_id)",
            "site_id": "case when w.row is null then t.site_id else (w.row->>'site')::integer end",
            "gateway_id": "case when w.row is null then t.gateway_id else (w.row->>'gateway')::integer end",
            "labels": "coalesce(w.row->'labels', t.labels)",
            "latitude": "case when w.row is null then t.latitude else (w.row->>'latitude')::float8 end",
            "longitude": "case when w.row is null then t.longitude else (w.row->>'longitude')::float8 end",
            "cadence_s": "case when w.row is null then t.cadence_s else (w.row->>'cadence_s')::integer end",
            # Once it was only kept whether a device was in service.
            "phase": "case when w.row is null then t.phase when w.row ? 'phase' then w.row->>'phase'"
            " when (w.row->>'in_service')::boolean then 'in service' when t.phase = 'in service' then 'maintenance'"
            " else t.phase end",
        },
        "left join as_of.was('device') w on w.id = t.id",
        None,
    ),
    "fleet_site": (
        {
            "name": "coalesce(w.row->>'name', t.name)",
            "title": "coalesce(w.row->>'title', t.title)",
            "parent_id": "case when w.row is null then t.parent_id else (w.row->>'parent')::integer end",
            "zone": "coalesce(w.row->>'zone', t.zone)",
        },
        "left join as_of.was('site') w on w.id = t.id",
        ("site", {"name": "name", "title": "title", "parent_id": "parent", "zone": "zone"}),
    ),
    "fleet_devicetype": (
        {
            "cadence_s": "case when w.row is null then t.cadence_s else (w.row->>'cadence_s')::integer end",
            "setpoints": "(select coalesce(jsonb_agg(case when s.value is null then o.one else o.one ||"
            " jsonb_build_object('value', s.value) end order by o.place), '[]') from jsonb_array_elements(t.setpoints)"
            " with ordinality o(one, place) left join as_of.setpoint s on s.type = t.id and s.name = o.one->>'name' and"
            " s.site is null and s.device is null)",
        },
        "left join as_of.was('type') w on w.id = t.id",
        None,
    ),
    "fleet_fence": (
        {"name": "coalesce(w.row->>'name', t.name)", "feature": "coalesce(w.row->'feature', t.feature)"},
        "left join as_of.was('fence') w on w.id = t.id where w.id is null or w.there",
        ("fence", {"name": "name", "feature": "feature"}),
    ),
    "definitions_definition": (
        {
            "live_id": "case when f.kind = 'publish' then (f.body->>'version')::integer end",
            "retired": "coalesce(f.kind = 'retire', false)",
            "place": "o.place",
            "off_until": "case when l.kind = 'off' then coalesce((select min(at) from public.control_event e where"
            " e.kind = 'publish' and (e.body->>'definition')::integer = t.id and e.id > l.id), t.off_until) end",
            "off_why": "case when l.kind = 'off' then l.body->>'why' else '' end",
            "off_by_id": "case when l.kind = 'off' then l.person_id end",
        },
        "left join (select distinct on (definition) * from as_of.ruled where kind in ('publish', 'retire') order by"
        " definition, id desc) f on f.definition = t.id left join as_of.ordered o on o.definition = t.id"
        " left join (select distinct on (definition) * from as_of.ruled"
        " where kind <> 'rollout' order by definition, id desc) l on l.definition = t.id",
        None,
    ),
}


def make(cursor: Any) -> None:
    """The views over the tables as they are now; none while tables are missing that they speak of."""
    drop(cursor)
    tables = [*WAS, *TABLES]
    cursor.execute(
        "select bool_and(to_regclass('public.' || name) is not null) from unnest(%s::text[]) name", (tables,)
    )
    if not cursor.fetchone()[0]:
        return
    cursor.execute(GROUND)
    for table, (columns, source, gone) in WAS.items():
        cursor.execute(f"create view as_of.{table} as {_view(cursor, table, columns, source, gone)}")


def drop(cursor: Any) -> None:
    """Takes the views away, so that the tables may be changed."""
    cursor.execute("drop schema if exists as_of cascade")


def _view(
    cursor: Any, table: str, columns: dict[str, str], source: str, gone: tuple[str, dict[str, str]] | None
) -> str:
    cursor.execute(
        "select attname, format_type(atttypid, atttypmod), attnotnull from pg_attribute where attrelid = %s::regclass"
        " and attnum > 0 and not attisdropped order by attnum",
        (f"public.{table}",),
    )
    found = cursor.fetchall()
    told = ", ".join(f"({columns.get(name, f't.{name}')})::{type_} as {name}" for name, type_, _ in found)
    query = f"select {told} from public.{table} t {source}"
    if gone is None:
        return query
    kind, keys = gone

    def blank(type_: str, needed: bool) -> str:
        return "null" if not needed else "''" if "char" in type_ or type_ == "text" else "0"

    values = {
        name: "g.id" if name == "id" else f"g.row->>'{keys[name]}'" if name in keys else blank(type_, needed)
        for name, type_, needed in found
    }
    told = ", ".join(f"({values[name]})::{type_}" for name, type_, _ in found)
    return (
        f"{query} union all select {told} from as_of.was('{kind}') g where g.there and not exists (select 1 from"
        f" public.{table} t where t.id = g.id)"
    )


_then: ContextVar[datetime | None] = ContextVar("then", default=None)


@contextmanager
def as_of(at: datetime | None) -> Iterator[None]:
    """What is read inside, by Django's connection, of the register is as it was at a moment; None: as it is, or was
    around it.
    """
    if at is None or at == _then.get():
        yield
        return
    with transaction.atomic(), connection.cursor() as cursor:
        before = _set(cursor, "as_of, public", str(place_at(cursor, at)))
        token = _then.set(at)
        try:
            yield
        finally:
            _then.reset(token)
        _set(cursor, *before)  # what is raised inside takes it back by itself


def _set(cursor: Any, path: str, place: str) -> tuple[str, str]:
    """Until the end of the transaction; returns what was set before."""
    cursor.execute("select current_setting('search_path'), coalesce(current_setting('oculum.place', true), '')")
    before: tuple[str, str] = cursor.fetchone()
    cursor.execute("select set_config('search_path', %s, true), set_config('oculum.place', %s, true)", (path, place))
    return before


def place_at(cursor: Any, at: datetime) -> int:
    """How far the stream was at a moment: the number of the last event or message until then, 0 before all."""
    cursor.execute("select coalesce(max(id), 0) from control_event where at <= %s", (at,))
    (place,) = cursor.fetchone()
    for back in BACK:
        cursor.execute("select max(id) from message where received_at <= %s and received_at > %s", (at, at - back))
        (message,) = cursor.fetchone()
        if message is not None:
            return max(int(place), int(message))
    return int(place)
