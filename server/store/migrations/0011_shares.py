"""Messages have no part any more: an engine goes through the whole stream and writes what belongs to its share."""

from django.db import migrations

SQL = """
alter table message drop column part;
alter table engine_cursor rename column part to share;
alter table engine_cursor add column shares smallint not null default 1;
alter table engine_memory rename column part to share;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0010_unheard")]
    operations = [migrations.RunSQL(SQL)]
