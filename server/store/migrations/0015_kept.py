"""How long things are kept, where people have said so: by what it is, and readings also by device type (0: all)."""

from django.db import migrations

SQL = """
create table kept_for (
    what text not null,
    type_id integer not null default 0,
    days integer not null check (days between 1 and 36500),
    primary key (what, type_id)
);
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0014_stretches")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
