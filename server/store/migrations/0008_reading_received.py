"""An index from arrivals to readings, for trials: small, as readings lie in the order of arrival."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("store", "0007_memory")]
    operations = [
        migrations.RunSQL(
            "create index reading_received on reading_row using brin (received_at) with (pages_per_range = 32);",
            "drop index reading_received;",
        )
    ]
