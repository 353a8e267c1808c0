"""The register as of every place in the stream: each event of it has what has changed, row by row.

A function in place of a view, so that the tables stay free to change.
"""

from django.db import migrations

SQL = """
create table register_change (
    what text not null,
    id bigint not null,
    number bigint not null,
    row jsonb,
    primary key (what, id, number)
);
create index register_number on register_change (number);

create function register_now() returns table (what text, id bigint, "row" jsonb) language plpgsql stable as $$
begin
    return query
    select 'device', d.id::bigint, jsonb_build_object(
        'name', d.name, 'title', d.title, 'type', d.type_id, 'site', d.site_id, 'labels', d.labels,
        'gateway', d.gateway_id, 'cadence_s', d.cadence_s,
        'registered_us', (extract(epoch from d.registered_at) * 1000000)::bigint,
        'latitude', d.latitude, 'longitude', d.longitude, 'in_service', d.phase = 'in service') from fleet_device d
    union all
    select 'site', s.id::bigint, jsonb_build_object(
        'name', s.name, 'title', s.title, 'parent', s.parent_id, 'zone', s.zone) from fleet_site s
    union all
    select 'type', t.id::bigint, jsonb_build_object('cadence_s', t.cadence_s) from fleet_devicetype t
    union all
    select 'fence', f.id::bigint, jsonb_build_object('name', f.name, 'feature', f.feature) from fleet_fence f
    union all
    select 'constant', c.id::bigint, jsonb_build_object(
        'device', c.device_id, 'name', c.name, 'value', c.value,
        'from_us', (extract(epoch from c.valid_from) * 1000000)::bigint) from fleet_constant c;
end $$;

insert into register_change select n.what, n.id, 0, n.row from register_now() n;

create or replace function control_turn() returns trigger language plpgsql as $$
declare
    stamp timestamptz := stream_turn(1);
    num bigint := nextval('arrival_id');
begin
    update control_event set id = num, at = stamp where key = new.key;
    if new.kind = 'registry' then
        with newest as (
            select distinct on (c.what, c.id) c.what, c.id, c.row from register_change c
            order by c.what, c.id, c.number desc
        )
        insert into register_change (what, id, number, row)
        select coalesce(n.what, o.what), coalesce(n.id, o.id), num, n.row
        from register_now() n full join newest o on o.what = n.what and o.id = n.id
        where n.row is distinct from o.row;
    end if;
    return null;
end $$;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0008_reading_received"), ("fleet", "0005_fence")]
    operations = [migrations.RunSQL(SQL)]
