"""Days that are over, packed by device and layout; a row stands here or in `reading_row`, never in both."""

from django.db import migrations

SQL = """
create table reading_sealed (
    device_id integer not null,
    day date not null,
    layout_id integer not null,
    rows integer not null,
    received tstzrange not null,
    medians float8[] not null,
    body bytea not null,
    primary key (device_id, day, layout_id)
);
-- Packed as they come, and beside their keys as long as they are short enough for a page.
alter table reading_sealed alter column body set storage external;
alter table reading_sealed set (toast_tuple_target = 8160, autovacuum_vacuum_insert_scale_factor = 0.05);
create index reading_sealed_received on reading_sealed using gist (received);

-- The day up to which anything may be sealed: what is measured before it is looked for among the sealed.
create table sealed_before (single boolean primary key default true check (single), day date not null);

-- Whole days leave the table every day.
alter table reading_row set (autovacuum_vacuum_scale_factor = 0.05);
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0016_days")]
    operations = [
        migrations.RunSQL(
            SQL,
            "drop table sealed_before, reading_sealed; alter table reading_row reset (autovacuum_vacuum_scale_factor);",
        )
    ]
