"""The inbox, the events among it, and what the engine makes of both: tables written by COPY, not by models."""

from django.db import migrations

SQL = """
create sequence arrival_id;

create table message (
    id bigint not null default nextval('arrival_id'),
    txid xid8 not null default pg_current_xact_id(),
    part smallint not null default 0,
    received_at timestamptz not null,
    device_id integer,
    unknown_id integer,
    via_id integer,
    channel smallint not null,
    topic text not null default '',
    payload bytea not null
) partition by range (received_at);
create index message_order on message (part, txid, id);
create index message_device on message (device_id, received_at desc);
create index message_unknown on message (unknown_id, received_at desc) where unknown_id is not null;
create index message_id on message using brin (id);
create index message_received on message using brin (received_at);
create table message_elsewhere partition of message default;

create function message_day(day date) returns void language plpgsql as $$
begin
    if to_regclass('message_' || to_char(day, 'YYYYMMDD')) is null then
        execute format('create table %I partition of message for values from (%L) to (%L)',
            'message_' || to_char(day, 'YYYYMMDD'),
            day::timestamp at time zone 'UTC', (day + 1)::timestamp at time zone 'UTC');
    end if;
end $$;

create table control_event (
    id bigint primary key default nextval('arrival_id'),
    txid xid8 not null default pg_current_xact_id(),
    at timestamptz not null default clock_timestamp(),
    kind text not null,
    body jsonb not null default '{}',
    person_id integer
);
create index control_order on control_event (txid, id);

create table mqtt_open (
    session text not null,
    packet integer not null,
    digest bytea not null,
    seq bigint not null,
    primary key (session, packet)
);

create table intake_refusal (
    minute timestamptz not null,
    device_id integer not null,
    reason text not null,
    count bigint not null,
    primary key (minute, device_id, reason)
);

create table broker_accounts (
    single boolean primary key default true check (single), wanted bigint not null, applied bigint not null
);
insert into broker_accounts values (true, 1, 0);

create table engine_cursor (
    part smallint primary key,
    txid xid8 not null,
    id bigint not null,
    clock timestamptz,
    messages bigint not null default 0,
    at timestamptz not null default clock_timestamp()
);

create table layout (
    id serial primary key,
    fields jsonb not null,
    digest bytea not null unique
);

create table reading_row (
    device_id integer not null,
    at timestamptz not null,
    layout_id integer not null,
    version_id integer not null,
    message_id bigint not null,
    received_at timestamptz not null,
    nums float8[] not null,
    texts text[],
    missing jsonb,
    primary key (device_id, at, layout_id)
);

create table replaced_reading (like reading_row, replaced_at timestamptz not null default clock_timestamp());
create index replaced_key on replaced_reading (device_id, at);

create table refused (
    message_id bigint primary key,
    received_at timestamptz not null,
    device_id integer not null,
    version_id integer,
    code text not null,
    reason text not null,
    line integer not null default 0,
    byte integer not null default -1
);
create index refused_device on refused (device_id, received_at desc);

create table latest (
    device_id integer primary key,
    message_id bigint not null,
    received_at timestamptz not null,
    messages bigint not null,
    failed boolean not null,
    fields jsonb not null
) with (fillfactor = 60);

create table activity (
    device_id integer not null,
    hour timestamptz not null,
    messages integer not null,
    failed integer not null,
    primary key (device_id, hour)
) with (fillfactor = 70);
create index activity_hour on activity (hour);

create table condition_state (
    condition_id integer not null,
    device_id integer not null,
    state jsonb not null,
    primary key (condition_id, device_id)
);

create unlogged table live_change (
    seq bigserial primary key,
    at timestamptz not null default clock_timestamp(),
    body jsonb not null
);
"""


class Migration(migrations.Migration):
    replaces = [("intake", "0002_inbox")]  # where these tables were made before
    dependencies = [("intake", "0001_initial")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
