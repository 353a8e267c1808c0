"""What a sender tells beside a message: MQTT user properties, HTTP headers that begin with `Oculum-`."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("intake", "0003_reading_message")]
    operations = [
        migrations.RunSQL("alter table message add column headers jsonb", "alter table message drop column headers")
    ]
