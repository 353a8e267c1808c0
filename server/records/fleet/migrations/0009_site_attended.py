from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("fleet", "0008_note")]

    operations = [
        migrations.AddField("site", "caretaker", models.CharField(blank=True, default="", max_length=200)),
        migrations.AddField("site", "attended", models.CharField(blank=True, default="", max_length=120)),
    ]
