"""What routes have done, by line and hour; and readings on their way to outlets."""

from django.db import migrations

SQL = """
create table route_activity (
    definition_id integer not null,
    version_id integer not null,
    line integer not null,
    device_type integer not null,
    hour timestamptz not null,
    seen bigint not null,
    took bigint not null,
    failed bigint not null,
    message_id bigint,
    primary key (definition_id, version_id, line, device_type, hour)
) with (fillfactor = 70);
create index route_activity_hour on route_activity (hour);

alter table engine_memory add column routes bytea;

create table reading_out (
    id bigint generated always as identity primary key,
    outlet_id integer not null,
    body jsonb not null,
    queued_at timestamptz not null default clock_timestamp()
);
create index reading_out_order on reading_out (outlet_id, id);

create table reading_out_log (
    id bigint generated always as identity primary key,
    outlet_id integer not null,
    at timestamptz not null default clock_timestamp(),
    readings integer not null,
    first_id bigint not null,
    last_id bigint not null,
    took_ms integer not null,
    good boolean not null,
    answer text not null
);
create index reading_out_log_newest on reading_out_log (outlet_id, id desc);

create table reading_out_lost (
    outlet_id integer not null,
    hour timestamptz not null,
    why text not null,
    readings bigint not null,
    primary key (outlet_id, hour, why)
);

create function reading_out_lose(outlet integer, edge bigint, reason text) returns bigint language plpgsql as $$
declare
    gone bigint;
begin
    delete from reading_out where outlet_id = outlet and id <= edge;
    get diagnostics gone = row_count;
    if gone > 0 then
        insert into reading_out_lost values (outlet, date_trunc('hour', clock_timestamp(), 'UTC'), reason, gone)
            on conflict (outlet_id, hour, why) do update set readings = reading_out_lost.readings + excluded.readings;
    end if;
    return gone;
end $$;

-- Of what waits for an outlet, the newest `most` stay.
create function reading_out_trim(outlet integer, most bigint) returns bigint language plpgsql as $$
declare
    edge bigint;
begin
    select id into edge from reading_out where outlet_id = outlet order by id desc offset most limit 1;
    return case when edge is null then 0 else reading_out_lose(outlet, edge, 'too many waited') end;
end $$;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0012_switched_on")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
