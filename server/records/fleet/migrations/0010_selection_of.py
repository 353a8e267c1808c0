from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("fleet", "0009_site_attended")]

    operations = [
        migrations.AddField("selection", "of", models.CharField(default="devices", max_length=7)),
        migrations.AlterField("selection", "name", models.CharField(max_length=80)),
        migrations.AddConstraint(
            "selection", models.UniqueConstraint(fields=["of", "name"], name="one_selection_a_name")
        ),
    ]
