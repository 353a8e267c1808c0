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
    replaces = [("intake", "0007_marks")]  # where these tables were made before
    dependencies = [("store", "0005_clock")]
    operations = [migrations.RunSQL(SQL)]
