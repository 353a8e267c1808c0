"""PostgreSQL and Mosquitto of one instance: set up, started on loopback, stopped in order."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import socket
import subprocess
import time
from pathlib import Path

from .instance import Instance

POSTGRES = Path("/usr/lib/postgresql/15/bin")


class StackError(RuntimeError):
    """Something that keeps the stack from starting; the message says what to do."""


def port_taken(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return True
    return False


def free_ports() -> int:
    """The first of three free ports in a row, for an instance beside others: below those that connections are given."""
    start = 20_000 + os.getpid() % 1300 * 9
    for base in [*range(start, 32_000, 9), *range(20_000, start, 9)]:
        if not any(port_taken(port) for port in range(base, base + 3)):
            return base
    raise StackError("no three free ports in a row")


def service_account(name: str) -> str | None:
    """The account a service runs as when we are root, else None: as ourselves."""
    if os.geteuid() != 0:
        return None
    try:
        pwd.getpwnam(name)
    except KeyError:
        raise StackError(
            f"the account `{name}` of Debian's package is missing: run `apt-get install --reinstall {'postgresql-15' if name == 'postgres' else 'mosquitto'}`"
        ) from None
    return name


def _as(user: str | None, command: list[str]) -> list[str]:
    return ["setpriv", f"--reuid={user}", f"--regid={user}", "--clear-groups", "--", *command] if user else command


def reachable(folder: Path) -> bool:
    """Whether the services' accounts can enter `folder` (a checkout under a closed home cannot be)."""
    if os.geteuid() != 0:
        return True
    folder.mkdir(parents=True, exist_ok=True)
    return all(
        subprocess.run(_as(user, ["test", "-x", str(folder)]), check=False).returncode == 0
        for user in ("postgres", "mosquitto")
    )


def _folder(path: Path, user: str | None) -> None:
    path.mkdir(parents=True, exist_ok=True, mode=0o700)
    if user:
        shutil.chown(path, user, user)


def alive(instance: Instance, name: str) -> int | None:
    """The process number of a part that runs, else None."""
    try:
        pid = int((instance.folder / "run" / f"{name}.pid").read_text().split()[0])
        os.kill(pid, 0)
    except (OSError, ValueError, IndexError):
        return None
    try:
        state = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return None
    return None if state == "Z" else pid


def stop(instance: Instance, name: str, how: signal.Signals = signal.SIGTERM, patience: float = 20) -> None:
    """Ends a part and waits for it; after `patience` seconds it is killed."""
    pid = alive(instance, name)
    if pid is None:
        return
    os.kill(pid, how)
    until = time.monotonic() + patience
    while alive(instance, name) and time.monotonic() < until:
        try:
            os.waitpid(pid, os.WNOHANG)
        except ChildProcessError:
            pass
        time.sleep(0.02)
    if alive(instance, name):
        os.kill(pid, signal.SIGKILL)
    (instance.folder / "run" / f"{name}.pid").unlink(missing_ok=True)


def start_postgres(instance: Instance) -> None:
    """Makes the cluster the first time and starts it. Raises StackError."""
    if not (POSTGRES / "initdb").exists():
        raise StackError("PostgreSQL 15 is missing: run `apt-get install postgresql-15`")
    user = service_account("postgres")
    home = instance.folder / "postgres"
    if not (home / "PG_VERSION").exists():
        _folder(home, user)
        password = instance.folder / "run" / "initial"
        password.write_text(instance.secret("database"))
        password.chmod(0o600)
        if user:
            shutil.chown(password, user)
            (instance.folder / "run").chmod(0o711)
        made = subprocess.run(
            _as(user, [str(POSTGRES / "initdb"), "-D", str(home), "-U", "oculum", "-A", "scram-sha-256", "--pwfile", str(password), "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions"]),
            capture_output=True, text=True, check=False, cwd="/",
        )  # fmt: skip
        password.unlink()
        if made.returncode:
            raise StackError(
                f"the database could not be made in {home}: {made.stderr.strip().splitlines()[-1] if made.stderr.strip() else 'no reason given'}"
            )
        with (home / "postgresql.auto.conf").open("a") as settings:
            settings.write(
                "listen_addresses = '127.0.0.1'\nunix_socket_directories = ''\nmax_connections = 80\nshared_buffers = '384MB'\n"
                "wal_compression = on\nmax_wal_size = '4GB'\ncheckpoint_timeout = '15min'\nsynchronous_commit = on\nfsync = on\n"
                "jit = off\nrandom_page_cost = 1.1\nlog_timezone = 'UTC'\ntimezone = 'UTC'\nautovacuum_naptime = '20s'\n"
            )
    if alive(instance, "postgres"):
        return
    if port_taken(instance.database_port):
        raise StackError(
            f"port {instance.database_port} (database) is taken by another program: choose others with --port, or OCULUM_DATABASE_PORT"
        )
    log = instance.folder / "log" / "postgres.log"
    with log.open("ab") as out:
        child = subprocess.Popen(
            _as(user, [str(POSTGRES / "postgres"), "-D", str(home), "-p", str(instance.database_port)]),
            stdout=out, stderr=out, stdin=subprocess.DEVNULL, start_new_session=True, cwd="/",
        )  # fmt: skip
    (instance.folder / "run" / "postgres.pid").write_text(str(child.pid))
    import psycopg

    until = time.monotonic() + 60
    while True:
        try:
            psycopg.connect(instance.database_url("postgres"), connect_timeout=2).close()
            return
        except psycopg.OperationalError as error:
            if child.poll() is not None:
                last = log.read_text(errors="replace").strip().splitlines()[-1:]
                raise StackError(f"the database did not start: {' '.join(last)} (all of it in {log})") from None
            if time.monotonic() > until:
                raise StackError(f"the database does not answer within a minute: {error}") from None
            time.sleep(0.05)


def start_broker(instance: Instance) -> None:
    """Starts Mosquitto with the accounts it has been given. Raises StackError."""
    from server.intake.accounts import write_accounts

    program = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
    if not Path(program).exists():
        raise StackError("Mosquitto is missing: run `apt-get install mosquitto`")
    user = service_account("mosquitto")
    home = instance.folder / "mosquitto"
    _folder(home, user)
    if alive(instance, "broker"):
        return
    if port_taken(instance.broker_port):
        raise StackError(
            f"port {instance.broker_port} (broker) is taken by another program: choose others with --port, or OCULUM_BROKER_PORT"
        )
    if not (home / "passwords").exists():
        write_accounts(instance, [], user)
    config = home / "mosquitto.conf"
    config.write_text(
        f"listener {instance.broker_port} 127.0.0.1\nallow_anonymous false\npassword_file {home}/passwords\nacl_file {home}/access\n"
        f"persistence true\npersistence_location {home}/\nautosave_interval 5\nmax_inflight_messages 4000\nmax_queued_messages 0\n"
        f"max_queued_bytes 268435456\nmax_packet_size 70000\nretain_available false\nset_tcp_nodelay true\n"
        f"log_dest file {home}/mosquitto.log\nlog_type error\nlog_type warning\n"
    )
    if user:
        shutil.chown(config, user, user)
    with (instance.folder / "log" / "broker.log").open("ab") as out:
        child = subprocess.Popen(
            _as(user, [program, "-c", str(config)]),
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
            cwd="/",
        )
    (instance.folder / "run" / "broker.pid").write_text(str(child.pid))
    until = time.monotonic() + 15
    while True:
        try:
            socket.create_connection(("127.0.0.1", instance.broker_port), 1).close()
            return
        except OSError:
            if child.poll() is not None or time.monotonic() > until:
                raise StackError(
                    f"the broker did not start: see {instance.folder / 'log' / 'broker.log'} and {home / 'mosquitto.log'}"
                ) from None
            time.sleep(0.05)


def make_database(instance: Instance, afresh: bool = False) -> bool:
    """Makes the instance's database if it is not there; True if it was made. `afresh` drops the one that is."""
    import psycopg
    from psycopg import sql

    with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
        if afresh:
            connection.execute(
                sql.SQL("drop database if exists {} with (force)").format(sql.Identifier(instance.database_name))
            )
        if connection.execute("select 1 from pg_database where datname = %s", (instance.database_name,)).fetchone():
            return False
        connection.execute(sql.SQL("create database {}").format(sql.Identifier(instance.database_name)))
    return True
