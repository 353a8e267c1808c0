"""Routes: the types that they are on, their order, and the tables that they look up."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("definitions", "0008_off"),
        ("fleet", "0006_no_part"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.AddField("definition", "on", models.ManyToManyField(related_name="routes", to="fleet.devicetype")),
        migrations.AddField("definition", "place", models.PositiveIntegerField(null=True)),
        migrations.CreateModel(
            name="ReferenceTable",
            fields=[
                ("id", models.AutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("revision", models.PositiveIntegerField(default=1, editable=False)),
                ("name", models.CharField(max_length=80, unique=True)),
                ("columns", models.JSONField(default=list)),
                ("rows", models.JSONField(default=list)),
                ("at", models.DateTimeField(auto_now=True)),
                (
                    "person",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
            options={"abstract": False},
        ),
    ]
