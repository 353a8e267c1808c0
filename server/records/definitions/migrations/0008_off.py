"""Conditions that are switched off for a time."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("definitions", "0007_incident"), migrations.swappable_dependency(settings.AUTH_USER_MODEL)]

    operations = [
        migrations.AddField("definition", "off_until", models.DateTimeField(null=True)),
        migrations.AddField("definition", "off_why", models.CharField(blank=True, max_length=300)),
        migrations.AddField(
            "definition",
            "off_by",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="+",
                to=settings.AUTH_USER_MODEL,
            ),
        ),
    ]
