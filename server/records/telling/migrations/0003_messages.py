from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("alarms", "0003_shelf"),
        ("telling", "0002_news"),
    ]

    operations = [
        migrations.AddIndex(
            model_name="delivery",
            index=models.Index(
                condition=models.Q(("state", "delivered"), ("together__gt", 0)),
                fields=["outlet", "to", "-sent_at"],
                name="delivery_messages",
            ),
        ),
        migrations.AddIndex(
            model_name="delivery",
            index=models.Index(condition=models.Q(("state", "expired")), fields=["state"], name="delivery_expired"),
        ),
    ]
