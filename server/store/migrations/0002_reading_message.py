"""An index from messages to the readings they gave, for decoding again."""

from django.db import migrations


class Migration(migrations.Migration):
    replaces = [("intake", "0003_reading_message")]  # where these tables were made before
    dependencies = [("store", "0001_inbox")]
    operations = [
        migrations.RunSQL(
            "create index reading_message on reading_row using brin (message_id) with (pages_per_range = 16);",
            "drop index reading_message;",
        )
    ]
