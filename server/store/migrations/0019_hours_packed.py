"""Counts of an hour that is over stand packed, as those of days do; `made` tells a packing from the one before."""

from django.db import migrations

SQL = """
drop table activity_summed;
drop table activity_unsummed;
create table activity_unsummed (hour timestamptz primary key);
create table activity_summed (
    first timestamptz not null,
    hours smallint not null,
    made uuid not null default gen_random_uuid(),
    messages bigint not null,
    body bytea not null,
    primary key (first, hours)
);
alter table activity_summed alter column body set storage external;
insert into activity_unsummed select distinct hour from activity;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0018_days_packed")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
