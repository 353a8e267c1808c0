"""The register remembers the phase of each device, not only whether it was in service."""

from django.db import migrations

SQL = """
create or replace function register_now() returns table (what text, id bigint, "row" jsonb)
language plpgsql stable as $$
begin
    return query
    select 'device', d.id::bigint, jsonb_build_object(
        'name', d.name, 'title', d.title, 'type', d.type_id, 'site', d.site_id, 'labels', d.labels,
        'gateway', d.gateway_id, 'cadence_s', d.cadence_s,
        'registered_us', (extract(epoch from d.registered_at) * 1000000)::bigint,
        'latitude', d.latitude, 'longitude', d.longitude, 'in_service', d.phase = 'in service', 'phase', d.phase)
        from fleet_device d
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
-- What is known of the past is left as it is; from here on a row tells more, and that is no change.
update register_change r set row = r.row || jsonb_build_object('phase', d.phase)
from (select distinct on (c.id) c.id, c.number from register_change c where c.what = 'device'
    order by c.id, c.number desc) newest, fleet_device d
where r.what = 'device' and r.id = newest.id and r.number = newest.number and r.row is not null and d.id = newest.id;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0020_latest_as_written")]
    operations = [migrations.RunSQL(SQL)]
