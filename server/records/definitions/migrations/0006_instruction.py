"""What an engineer says to do about the alarms of a condition."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("definitions", "0005_edition"),
    ]

    operations = [
        migrations.AddField(
            model_name="definition",
            name="instruction",
            field=models.TextField(blank=True, max_length=5000),
        ),
    ]
