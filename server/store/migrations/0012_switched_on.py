"""Conditions whose time off is over are in force again: an event of the stream, told once by whoever sees it first."""

from django.db import migrations

SQL = """
create function switched_on() returns void language plpgsql as $$
begin
    with back as (
        update definitions_definition set off_until = null, off_why = '', off_by_id = null
        where off_until <= clock_timestamp() returning id, live_id
    )
    insert into control_event (kind, body)
    select 'publish', jsonb_build_object('definition', id, 'version', live_id) from back where live_id is not null;
end $$;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0011_shares"), ("definitions", "0008_off")]
    operations = [migrations.RunSQL(SQL)]
