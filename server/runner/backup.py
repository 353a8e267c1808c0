"""A backup while everything runs, and a restore into an empty folder or, asked for by name, over what is there.

The file is an archive (tar) of three things: `manifest.json`, `database.dump` in PostgreSQL's own format, and
`secrets/`. What intake has acknowledged is in the database; what still waits at the broker is the broker's.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg

from server.instance.instance import Instance
from server.runner.stack import POSTGRES, StackError

FORMAT = 1
# The password of the database belongs to the cluster, not to what is in it.
SECRETS = ["django", "broker.json", "demo-keys.json"]
COUNTED = [
    *("message", "reading_row", "reading_sealed"),
    *("fleet_device", "definitions_version", "alarms_alarm", "access_person"),
]
Say = Callable[[str], None]


class BackupError(StackError):
    """Why a backup or a restore could not be made; the message says what to do."""


def _environment(instance: Instance) -> dict[str, str]:
    return {
        **os.environ,
        "PGHOST": instance.database_host,
        "PGPORT": str(instance.database_port),
        "PGUSER": "oculum",
        "PGPASSWORD": instance.secret("database"),
        "PGCONNECT_TIMEOUT": "5",
    }


def _run(instance: Instance, program: str, *arguments: str) -> str:
    """A program of PostgreSQL's. Raises BackupError with what it said."""
    done = subprocess.run(
        [str(POSTGRES / program), *arguments], env=_environment(instance), capture_output=True, text=True, check=False
    )
    if done.returncode:
        said = [line for line in done.stderr.strip().splitlines() if line]
        raise BackupError(f"{program}: {said[-1] if said else 'failed without a reason'}")
    return done.stdout


def _counts(connection: psycopg.Connection[Any]) -> dict[str, int]:
    rows = {}
    for table in COUNTED:
        row = connection.execute(f"select count(*) from {table}").fetchone()
        rows[table] = int(row[0]) if row else 0
    return rows


def backup(instance: Instance, target: Path, say: Say) -> None:
    """Writes the backup; a file by that name is replaced when the new one is whole. Raises BackupError."""
    target = target.resolve()
    if not target.parent.is_dir():
        raise BackupError(f"{target.parent} is no folder")
    with tempfile.TemporaryDirectory(prefix=".oculum-backup-", dir=target.parent) as name:
        folder = Path(name)
        dump = folder / "database.dump"
        say("Writing the database")
        try:
            with psycopg.connect(instance.database_url(), connect_timeout=5) as connection:
                # The counts are of the very state that is dumped.
                connection.execute("set transaction isolation level repeatable read, read only")
                row = connection.execute("select pg_export_snapshot()").fetchone()
                assert row is not None
                migrations = connection.execute("select app, max(name) from django_migrations group by 1").fetchall()
                _run(
                    instance,
                    "pg_dump",
                    "-Fc",
                    "-Z",
                    "1",
                    "--no-unlogged-table-data",
                    f"--snapshot={row[0]}",
                    "-f",
                    str(dump),
                    "-d",
                    instance.database_name,
                )
                say("Counting what is in it")
                counts = _counts(connection)
        except psycopg.Error as error:
            raise BackupError(f"the database does not answer: {str(error).strip().splitlines()[0]}") from None
        manifest = {
            "format": FORMAT,
            "made_at": datetime.now(UTC).isoformat(),
            "migrations": dict(migrations),
            "counts": counts,
            "sha256": hashlib.file_digest(dump.open("rb"), "sha256").hexdigest(),
        }
        whole = folder / "whole"
        with os.fdopen(os.open(whole, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            with tarfile.open(fileobj=file, mode="w") as archive:
                _add(archive, "manifest.json", json.dumps(manifest, indent=1).encode())
                for secret in SECRETS:
                    path = instance.folder / "secrets" / secret
                    if path.exists():
                        _add(archive, f"secrets/{secret}", path.read_bytes())
                archive.add(dump, "database.dump", recursive=False)
            file.flush()
            os.fsync(file.fileno())
        read_manifest(whole)
        os.replace(whole, target)
    say(
        f"{target}: {target.stat().st_size / 1e6:.1f} MB, {counts['message']:,} messages. Keep it safe: keys are in it."
    )


def _add(archive: tarfile.TarFile, name: str, content: bytes) -> None:
    about = tarfile.TarInfo(name)
    about.size, about.mode = len(content), 0o600
    archive.addfile(about, io.BytesIO(content))


def read_manifest(source: Path) -> dict[str, Any]:
    """What a backup says of itself. Raises BackupError where it is none, or not whole."""
    try:
        with tarfile.open(source, "r:") as archive:
            names = archive.getnames()
            file = archive.extractfile("manifest.json")
            manifest = json.loads(file.read()) if file is not None else None
    except (OSError, tarfile.TarError, KeyError, ValueError) as error:
        raise BackupError(f"{source} is no backup of Oculum: {error}") from None
    if not isinstance(manifest, dict) or "database.dump" not in names:
        raise BackupError(f"{source} is no backup of Oculum: its parts are {', '.join(names[:5]) or 'none'}")
    if manifest.get("format") != FORMAT:
        raise BackupError(f"{source} is a backup of format {manifest.get('format')}; this version reads {FORMAT}")
    return manifest


def unpack(source: Path, folder: Path) -> tuple[dict[str, Any], Path]:
    """The manifest, and the dump as a file of its own, checked against its sum. Raises BackupError."""
    manifest = read_manifest(source)
    with tarfile.open(source, "r:") as archive:
        archive.extractall(folder, filter="data")
    dump = folder / "database.dump"
    if hashlib.file_digest(dump.open("rb"), "sha256").hexdigest() != manifest.get("sha256"):
        raise BackupError(f"{source} is damaged: the database in it is not the one that was written")
    return manifest, dump


def holds_something(instance: Instance) -> bool:
    """Whether the instance's database is there and somebody is registered in it."""
    try:
        with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
            there = "select 1 from pg_database where datname = %s"
            if connection.execute(there, (instance.database_name,)).fetchone() is None:
                return False
        with psycopg.connect(instance.database_url()) as connection:
            row = connection.execute("select to_regclass('access_person')").fetchone()
            if row is None or row[0] is None:
                return False
            row = connection.execute("select exists (select 1 from access_person)").fetchone()
            return bool(row and row[0])
    except psycopg.Error as error:
        raise BackupError(f"the database does not answer: {str(error).strip().splitlines()[0]}") from None


def restore(instance: Instance, source: Path, say: Say) -> None:
    """Puts a backup in the place of the instance's database and secrets. Database up, nothing else. Raises BackupError.

    The database is restored beside the one that is there and takes its name when it is whole; the one before keeps
    its data under another name until this has gone well.
    """
    from psycopg import sql

    with tempfile.TemporaryDirectory(prefix=".oculum-restore-", dir=instance.folder) as name:
        folder = Path(name)
        manifest, dump = unpack(source, folder)
        fresh, before = f"{instance.database_name}_restored", f"{instance.database_name}_before"
        with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
            connection.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(fresh)))
            connection.execute(sql.SQL("create database {}").format(sql.Identifier(fresh)))
        say("Reading the database back")
        _run(instance, "pg_restore", "-d", fresh, "--no-owner", "--exit-on-error", "-j", "2", str(dump))
        with psycopg.connect(instance.database_url(fresh)) as connection:
            found = _counts(connection)
            if found != manifest["counts"]:
                raise BackupError(f"what was restored is not what was written: {found} against {manifest['counts']}")
            # Marks are of the broker that was; accounts are written anew for the one that is.
            connection.execute("delete from broker_taken")
            connection.execute("update broker_accounts set wanted = wanted + 1")
            connection.execute("update engine_cursor set holder = ''")
        with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
            old = sql.Identifier(instance.database_name)
            query = "select exists (select 1 from pg_database where datname = %s)"
            there = connection.execute(query, (instance.database_name,)).fetchone() == (True,)
            if there:
                connection.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(before)))
            with connection.transaction():  # both names or neither: there is never a moment without a database
                if there:
                    connection.execute(sql.SQL("alter database {} rename to {}").format(old, sql.Identifier(before)))
                connection.execute(sql.SQL("alter database {} rename to {}").format(sql.Identifier(fresh), old))
            for secret in SECRETS:
                path = folder / "secrets" / secret
                if path.exists():
                    kept = instance.folder / "secrets" / secret
                    shutil.copyfile(path, kept)
                    kept.chmod(0o600)
            # The broker's accounts are written anew; what it has queued nobody has taken yet, and stays.
            for left in ("passwords", "limits"):
                (instance.folder / "mosquitto" / left).unlink(missing_ok=True)
            (instance.folder / "demo.json").unlink(missing_ok=True)
            connection.execute(sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(before)))
    say(
        f"Restored: {found['message']:,} messages, {found['fleet_device']} devices, as of {manifest['made_at'][:19]}"
        f" UTC."
    )
