"""The clock by which retention goes: it never leaps."""

from django.db import migrations

SQL = """
create table kept_clock (
    single boolean primary key default true check (single),
    trusted timestamptz not null,
    leapt_from timestamptz,
    leapt_at timestamptz
);
"""


class Migration(migrations.Migration):
    replaces = [("intake", "0006_clock")]  # where these tables were made before
    dependencies = [("store", "0004_order")]
    operations = [migrations.RunSQL(SQL, "drop table kept_clock")]
