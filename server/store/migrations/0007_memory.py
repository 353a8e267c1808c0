"""What conditions remember, kept with the place in the stream that it belongs to."""

from django.db import migrations

SQL = """
create table engine_memory (
    part smallint primary key,
    id bigint not null,
    clock timestamptz,
    body bytea not null,
    at timestamptz not null default clock_timestamp()
);
alter table engine_memory alter column body set storage external;
drop table condition_state;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0006_marks")]
    operations = [migrations.RunSQL(SQL)]
