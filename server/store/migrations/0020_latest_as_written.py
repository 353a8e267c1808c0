"""Newest values are read whole, of thousands of devices at once: they stay as they were written, and are not put
together anew for each answer.
"""

from django.db import migrations

SQL = "alter table latest alter column fields type json using fields::json"


class Migration(migrations.Migration):
    dependencies = [("store", "0019_hours_packed")]
    operations = [migrations.RunSQL(SQL, migrations.RunSQL.noop)]
