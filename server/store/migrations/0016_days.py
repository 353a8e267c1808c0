"""Counts by the hour, summed by the day once the day is over; and the days that are to be summed (anew)."""

from django.db import migrations

SQL = """
create table activity_day (
    day date not null,
    device_id integer not null,
    messages integer not null,
    failed integer not null,
    cells bigint not null,
    gone bigint not null,
    delays integer not null,
    delay_sum float8 not null,
    delay_max float8,
    delay_least float8,
    primary key (day, device_id)
);
create table activity_unsummed (day date primary key);
create table activity_summed (day date primary key);
insert into activity_unsummed select distinct (hour at time zone 'UTC')::date from activity;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0015_kept")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
