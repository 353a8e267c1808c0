"""A backup, restored into another folder and another cluster, goes on as if nothing had been; so does an upgrade."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

from server.instance.instance import ROOT, Instance
from server.instance.processes import end
from server.runner import backup as backups
from server.runner import stack
from tests.server.world import World, payload, work_off


@pytest.fixture
def other() -> Iterator[Instance]:
    """Another folder, with a database of its own that runs."""
    folder = Path(tempfile.mkdtemp(prefix="oculum-other-", dir="/var/tmp"))
    folder.chmod(0o711)
    port = stack.free_ports()
    instance = Instance(folder, port, port + 1, port + 2)
    for part, mode in (("run", 0o711), ("log", 0o700), ("secrets", 0o700)):
        (folder / part).mkdir(mode=mode)
    try:
        stack.start_postgres(instance)
        yield instance
    finally:
        end(folder, "postgres", signal.SIGINT, 30)
        shutil.rmtree(folder, ignore_errors=True)


def quiet(text: str) -> None:
    pass


def test_a_backup_restored_elsewhere_goes_on_reading(
    world: World, engine: Any, other: Instance, tmp_path: Path
) -> None:
    from server.engine.worker import Engine

    world.person("admin")
    world.decoder()
    world.condition()
    # Numbers of transactions in the old cluster run ahead of those of the new one.
    with psycopg.connect(world.url, autocommit=True) as connection:
        for _ in range(3000):
            connection.execute("select pg_current_xact_id()")
    world.arrive(*[(0, i, payload(i / 10)) for i in range(200)])
    work_off(engine)
    world.arrive((1, 300, payload(4)))  # one that waits
    file = tmp_path / "backup.tar"
    backups.backup(world.instance, file, quiet)
    assert file.stat().st_mode & 0o077 == 0
    assert not backups.holds_something(other)
    backups.restore(other, file, quiet)
    assert backups.holds_something(other)
    assert other.private("broker.json") == world.instance.private("broker.json")
    assert other.secret("django") == world.instance.secret("django")
    assert other.secret("database") != world.instance.secret("database")

    fresh = Engine(other.database_url())
    try:
        with psycopg.connect(other.database_url(), autocommit=True) as connection:
            work_off(fresh)
            assert connection.execute("select count(*) from reading_row").fetchone() == (201,)
            for n in range(3):
                connection.execute(
                    "insert into message (received_at, device_id, channel, payload) values (now(), %s, 2, %s)",
                    (world.pods[2].pk, payload(n + 1)),
                )
            work_off(fresh)
            assert connection.execute("select count(*) from reading_row").fetchone() == (204,)
            assert connection.execute("select messages from engine_cursor").fetchone() == (204,)
    finally:
        fresh.close()


def test_what_is_no_backup_or_not_whole_is_refused(world: World, other: Instance, tmp_path: Path) -> None:
    (tmp_path / "text").write_text("no backup")
    with pytest.raises(backups.BackupError, match="is no backup of Oculum"):
        backups.read_manifest(tmp_path / "text")
    with tarfile.open(tmp_path / "empty.tar", "w"):
        pass
    with pytest.raises(backups.BackupError, match="is no backup"):
        backups.read_manifest(tmp_path / "empty.tar")
    file = tmp_path / "backup.tar"
    backups.backup(world.instance, file, quiet)
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 0xFF
    (tmp_path / "damaged.tar").write_bytes(data)
    with pytest.raises(backups.BackupError, match="damaged|no backup"):
        backups.restore(other, tmp_path / "damaged.tar", quiet)
    with pytest.raises(backups.BackupError, match="no folder"):
        backups.backup(world.instance, tmp_path / "nowhere" / "x.tar", quiet)
    assert not backups.holds_something(other), "nothing of it is left"


def test_what_waited_before_the_upgrade_is_read_once_after_it(instance: Any) -> None:
    """From the tables of the version before: cursor by transactions, a partition for everything else."""
    name = "upgrade"
    environment = {**os.environ, "OCULUM_DATABASE": name}

    def migrate(*to: str) -> None:
        command = [sys.executable, "-m", "server.manage", "migrate", "-v", "0", *to]
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr[-3000:]

    with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
        connection.execute(f"drop database if exists {name} with (force)")
        connection.execute(f"create database {name}")
    try:
        migrate("store", "0003")
        with psycopg.connect(instance.database_url(name), autocommit=True) as connection:
            insert = "insert into message (part, received_at, device_id, channel, payload) values (0, %s, 1, 3, %s)"
            with psycopg.connect(instance.database_url(name)) as slow:
                slow.execute(insert, ("2000-01-01T00:00Z", b"slow"))  # draws the lowest number, is committed last
                for n in range(5):
                    connection.execute(insert, ("2000-01-02T00:00Z", b"%d" % n))
                connection.execute(
                    "insert into engine_cursor (part, txid, id, messages) select 0, txid, id, 2 from message"
                    " where payload = '0' or payload = '1' order by txid desc, id desc limit 1"
                )
                # As its transaction is older than the cursor's, it would never have been read.
                slow.execute("update message set txid = '999999999' where payload = 'slow'")
                slow.commit()
            connection.execute("insert into control_event (kind) values ('registry')")
            connection.execute("delete from django_migrations where app = 'store'")
            for step in ("0002_inbox", "0003_reading_message", "0004_headers"):  # as that version called them
                connection.execute(
                    "insert into django_migrations (app, name, applied) values ('intake', %s, now())", (step,)
                )
        migrate()
        with psycopg.connect(instance.database_url(name), autocommit=True) as connection:
            waiting = connection.execute(
                "select payload from message where id > (select id from engine_cursor) order by id"
            ).fetchall()
            assert [bytes(row[0]) for row in waiting] == [b"2", b"3", b"4", b"slow"]
            ((events,),) = connection.execute(
                "select count(*) from control_event where id > (select id from engine_cursor)"
            ).fetchall()
            assert events == 1
            last = connection.execute("select max(id) from message").fetchone()
            insert = "insert into message (received_at, device_id, channel, payload) values (%s, 1, 3, %s)"
            connection.execute(insert, ("2000-01-02T12:00Z", b"new"))
            assert connection.execute("select max(id) from message").fetchone() > last  # type: ignore[operator]
            assert connection.execute("select to_regclass('message_elsewhere')").fetchone() == (None,)
    finally:
        with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
            connection.execute(f"drop database if exists {name} with (force)")
