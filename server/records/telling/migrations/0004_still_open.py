from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("telling", "0003_messages"),
    ]

    operations = [
        migrations.AddField(
            model_name="chain",
            name="open_after_s",
            field=models.PositiveIntegerField(null=True),
        ),
        migrations.RemoveConstraint(
            model_name="delivery",
            name="one_delivery_of_an_entry",
        ),
        migrations.AddConstraint(
            model_name="delivery",
            constraint=models.UniqueConstraint(
                fields=("outlet", "to", "entry", "what", "step"), name="one_delivery_of_an_entry"
            ),
        ),
    ]
