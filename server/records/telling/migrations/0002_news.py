"""What is to be told is written down with what happened, in one transaction; who tells it comes later."""

from django.db import migrations

SQL = """
create table telling_news (id bigserial primary key, entry bigint not null, alarm bigint not null,
    what text not null, at timestamptz not null);
create function telling_of_entry() returns trigger language plpgsql as $$
begin
    insert into telling_news (entry, alarm, what, at) values (new.id, new.alarm_id, new.what, new.at);
    perform pg_notify('oculum_telling', '');
    return null;
end $$;
create trigger telling_of_entry after insert on alarms_journalentry for each row
    when (new.what in ('raised', 'cleared', 'priority changed') and new.learned_at > now() - interval '1 hour')
    execute function telling_of_entry();
"""
BACK = "drop trigger telling_of_entry on alarms_journalentry; drop function telling_of_entry; drop table telling_news;"


class Migration(migrations.Migration):
    dependencies = [("telling", "0001_initial"), ("alarms", "0003_shelf")]
    operations = [migrations.RunSQL(SQL, BACK)]
