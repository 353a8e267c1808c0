"""In which state each device was, and when: a row a stretch of time, written when it is over.

device_stands: the stretch that goes on, with `latest` for its last arrival. device_unmade: of which devices the
stretches from a moment on are to be made anew; at first all of them.

activity also says how much its messages told, by the hour: cells that have a value and such that miss one with a
reason, and how long after being measured the newest of a message arrived, in seconds. A refusal says whether it was of
a part of a message only.
"""

from django.db import migrations

SQL = """
create table device_stretch (
    device_id integer not null,
    since timestamptz not null,
    until timestamptz not null,
    state smallint not null,
    primary key (device_id, since)
);
create index device_stretch_until on device_stretch (until);
create table device_stands (
    device_id integer primary key,
    since timestamptz not null,
    state smallint not null
) with (fillfactor = 70);
create table device_unmade (
    device_id integer primary key,
    since timestamptz not null
);
alter table activity
    add column cells integer not null default 0,
    add column gone integer not null default 0,
    add column delays integer not null default 0,
    add column delay_sum float8 not null default 0,
    add column delay_min float8 not null default 'infinity',
    add column delay_max float8 not null default '-infinity';
alter table refused add column part boolean not null default false;
insert into device_unmade select distinct device_id, '-infinity'::timestamptz from activity;
insert into device_stands select device_id, received_at, case when failed then 3 else 0 end from latest
    where device_id in (select device_id from activity);
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0013_routes")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
