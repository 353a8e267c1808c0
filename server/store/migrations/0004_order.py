"""The stream's own order: numbers and stamps are drawn in the order of commit, and survive dump, restore and upgrade.

Whoever writes into the stream holds one lock from drawing the number until the commit, so that a number is never
committed behind a higher one. There is no partition for everything else any more: days are made before rows arrive.
"""

from django.db import migrations

SQL = """
create sequence arrival_stamp;

-- Takes the turn in the stream until the end of the transaction. Returns the first of `many` stamps, a microsecond
-- apart, all later than those given before, unless the clock was set back by more than five minutes.
create function stream_turn(many integer) returns timestamptz language plpgsql as $$
declare
    now_us bigint;
    last_us bigint;
    first_us bigint;
begin
    perform pg_advisory_xact_lock(641);
    select last_value into last_us from arrival_stamp;
    now_us := floor(extract(epoch from clock_timestamp()) * 1000000)::bigint;
    first_us := case when last_us >= now_us and last_us < now_us + 300000000 then last_us + 1 else now_us end;
    perform setval('arrival_stamp', first_us + greatest(many, 1) - 1);
    return timestamptz 'epoch' + first_us * interval '1 microsecond';
end $$;

-- The end of the stream: everything stamped before `clock_us` is committed, and numbered up to `last_id`.
create function stream_end(out clock_us bigint, out last_id bigint) language plpgsql as $$
declare
    last_us bigint;
begin
    perform pg_advisory_xact_lock_shared(641);
    select last_value into last_us from arrival_stamp;
    select last_value into last_id from arrival_id;
    clock_us := floor(extract(epoch from clock_timestamp()) * 1000000)::bigint;
    if last_us > clock_us and last_us < clock_us + 300000000 then
        clock_us := last_us;
    end if;
end $$;

create function stream_lock() returns trigger language plpgsql as $$
begin
    perform pg_advisory_xact_lock(641);
    return null;
end $$;

-- What waits is numbered anew in the order in which it would have been read.
create temp table waiting as
select w.kind, w.id, row_number() over (order by w.txid, w.id) as n
from (
    select 'message' as kind, m.id, m.txid from message m
    union all
    select 'event', e.id, e.txid from control_event e
) w
where (w.txid, w.id) > (
    coalesce((select txid from engine_cursor limit 1), '0'::xid8), coalesce((select id from engine_cursor limit 1), 0)
);
create temp table base as select case when is_called then last_value else 0 end as id from arrival_id;
select setval('arrival_id', greatest((select base.id from base) + (select count(*) from waiting), 1));
update message m set id = base.id + w.n from waiting w, base where w.kind = 'message' and m.id = w.id;
update control_event e set id = base.id + w.n from waiting w, base where w.kind = 'event' and e.id = w.id;
update engine_cursor set id = base.id from base;
drop table waiting;
drop table base;

drop index message_order;
drop index message_id;
create index message_number on message (id);
drop index control_order;
alter table message drop column txid;
alter table engine_cursor drop column txid;
alter table engine_cursor add column holder text not null default '';

alter table control_event drop constraint control_event_pkey;
alter table control_event drop column txid;
alter table control_event alter column id drop default;
alter table control_event alter column id drop not null;
alter table control_event add column key bigserial primary key;
create unique index control_number on control_event (id);

create trigger message_turn before insert on message for each statement execute function stream_lock();

-- An event has its number when its transaction commits, so that no transaction holds the turn while it works.
create function control_turn() returns trigger language plpgsql as $$
declare
    stamp timestamptz := stream_turn(1);
begin
    update control_event set id = nextval('arrival_id'), at = stamp where key = new.key;
    return null;
end $$;
create constraint trigger control_turn after insert on control_event
    deferrable initially deferred for each row execute function control_turn();

-- Makes the partition of a day (UTC). Attaching it does not wait for those who read.
create or replace function message_day(day date) returns void language plpgsql as $$
declare
    name text := 'message_' || to_char(day, 'YYYYMMDD');
begin
    if to_regclass(name) is not null then
        return;
    end if;
    perform pg_advisory_xact_lock(642);
    if to_regclass(name) is null then
        execute format('create table %I (like message including defaults)', name);
        execute format('alter table message attach partition %I for values from (%L) to (%L)',
            name, day::timestamp at time zone 'UTC', (day + 1)::timestamp at time zone 'UTC');
    end if;
end $$;

alter table message detach partition message_elsewhere;
select message_day(d) from (select distinct (received_at at time zone 'UTC')::date as d from message_elsewhere) x;
insert into message (id, part, received_at, device_id, unknown_id, via_id, channel, topic, payload, headers)
    select id, part, received_at, device_id, unknown_id, via_id, channel, topic, payload, headers
    from message_elsewhere order by id;
drop table message_elsewhere;
"""


class Migration(migrations.Migration):
    replaces = [("intake", "0005_order")]  # where these tables were made before
    dependencies = [("store", "0003_headers")]
    operations = [migrations.RunSQL(SQL)]
