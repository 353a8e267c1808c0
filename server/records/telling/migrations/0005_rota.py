"""Contacts have days off, and duties a rota."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("telling", "0004_still_open")]

    operations = [
        migrations.AlterField("contact", "addresses", models.JSONField(blank=True, default=list)),
        migrations.AddField("contact", "days_off", models.JSONField(blank=True, default=list)),
        migrations.AddField("contact", "rota", models.JSONField(blank=True, null=True)),
        migrations.AlterField(
            "outlet",
            "kind",
            models.CharField(choices=[("mail", "mail"), ("webhook", "webhook"), ("mqtt", "mqtt")], max_length=16),
        ),
    ]
