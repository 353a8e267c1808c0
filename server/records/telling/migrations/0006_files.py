"""Outlets that are files."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("telling", "0005_rota")]
    operations = [
        migrations.AlterField(
            "outlet",
            "kind",
            models.CharField(
                choices=[("mail", "mail"), ("webhook", "webhook"), ("mqtt", "mqtt"), ("file", "file")], max_length=16
            ),
        ),
    ]
