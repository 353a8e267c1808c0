"""What intake has taken of each run of the broker, by the numbers of the broker's marks."""

from django.db import migrations

SQL = """
create table broker_taken (
    run text primary key,
    taken int8multirange not null,
    at timestamptz not null default clock_timestamp()
);
drop table mqtt_open;
"""


class Migration(migrations.Migration):
    dependencies = [("intake", "0006_clock")]
    operations = [migrations.RunSQL(SQL)]
