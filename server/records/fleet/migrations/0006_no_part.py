from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("fleet", "0005_fence")]
    operations = [migrations.RemoveField(model_name="device", name="part")]
