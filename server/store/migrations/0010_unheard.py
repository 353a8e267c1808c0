"""When intake listened last, and the spans in which it did not, as events of the stream.

Time in which nobody listened is taken out of every silence. Intake says every few seconds that it listens;
who finds that it has not done so for a while, engine or intake itself, says so in the stream.
"""

from django.db import migrations

SQL = """
create table intake_life (one boolean primary key default true check (one), at timestamptz not null, told timestamptz);

create function us(moment timestamptz) returns bigint language sql immutable as $$
    select (extract(epoch from moment) * 1000000)::bigint
$$;

-- Intake listens. Where it did not for more than fifteen seconds, the span is over.
create function listening() returns void language plpgsql as $$
declare
    was timestamptz;
    now timestamptz := clock_timestamp();
begin
    select l.at into was from intake_life l for update;
    insert into intake_life (at) values (now) on conflict (one) do update set at = now, told = null;
    if now - was > interval '15 seconds' then
        insert into control_event (kind, body)
        values ('unheard', jsonb_build_object('since', us(was), 'until', us(now)));
        perform pg_notify('oculum_control', '');
    end if;
end $$;

-- Intake has not listened for more than fifteen seconds: the span goes on. Told once.
create function unheard() returns void language plpgsql as $$
declare
    was timestamptz;
begin
    update intake_life set told = at
    where at < clock_timestamp() - interval '15 seconds' and told is distinct from at returning at into was;
    if found then
        insert into control_event (kind, body)
        values ('unheard', jsonb_build_object('since', us(was), 'until', null));
    end if;
end $$;
"""


class Migration(migrations.Migration):
    dependencies = [("store", "0009_register")]
    operations = [migrations.RunSQL(SQL)]
