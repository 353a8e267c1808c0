"""Counts of a day stand packed, of all devices at once: a month of a large fleet is thirty rows."""

from django.db import migrations

SQL = """
drop table activity_day;
drop table activity_summed;
create table activity_summed (day date primary key, body bytea not null);
alter table activity_summed alter column body set storage external;
insert into activity_unsummed select distinct (hour at time zone 'UTC')::date from activity on conflict do nothing;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0017_sealed")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
