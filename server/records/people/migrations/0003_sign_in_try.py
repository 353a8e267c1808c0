"""Tries to sign in, by minute and by what is watched; names of people that differ otherwise than by case."""

from django.db import migrations

SQL = """
create table sign_in_try (
    key text not null,
    minute timestamptz not null,
    tries integer not null,
    primary key (key, minute)
);
"""


def apart(apps, editor):
    """People whose names differ by case only, from before it was refused: the later ones get a number behind."""
    Person = apps.get_model("access", "Person")
    taken = set()
    for person in Person.objects.order_by("pk"):
        name, n = person.username, 2
        while name.lower() in taken:
            name, n = f"{person.username[:50]}.{n}", n + 1
        taken.add(name.lower())
        if name != person.username:
            person.username = name
            person.save(update_fields=["username"])


class Migration(migrations.Migration):
    dependencies = [("access", "0002_person_must_change_password")]
    operations = [
        migrations.RunSQL(SQL, "drop table sign_in_try"),
        migrations.RunPython(apart, migrations.RunPython.noop),
    ]
