"""What a sender tells beside a message: MQTT user properties, HTTP headers that begin with `Oculum-`."""

from django.db import migrations


class Migration(migrations.Migration):
    replaces = [("intake", "0004_headers")]  # where these tables were made before
    dependencies = [("store", "0002_reading_message")]
    operations = [
        migrations.RunSQL("alter table message add column headers jsonb", "alter table message drop column headers")
    ]
