"""PostgreSQL and Mosquitto of one instance: set up, started on loopback, stopped in order."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import time
from pathlib import Path

from oculum.errors import OculumError
from server.instance.instance import ROOT, Instance
from server.instance.processes import alive, remember

POSTGRES = Path("/usr/lib/postgresql/15/bin")


class StackError(OculumError):
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
            f"the account `{name}` of Debian's package is missing: run `apt-get install --reinstall"
            f" {'postgresql-15' if name == 'postgres' else 'mosquitto'}`"
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


def _command_of(pid: int) -> list[str]:
    try:
        return Path(f"/proc/{pid}/cmdline").read_bytes().decode(errors="replace").split("\0")
    except OSError:
        return []


def found(instance: Instance, name: str, argument: str) -> int | None:
    """A service of this instance that runs, also where its note has been lost: known by an argument of its command."""
    pid = alive(instance.folder, name)
    if pid is not None:
        return pid
    children = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and argument in _command_of(int(entry.name)):
            children[int(entry.name)] = _parent(int(entry.name))
    for pid, parent in children.items():
        if parent not in children:
            remember(instance.folder, name, pid)
            return pid
    return None


def _parent(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[1])
    except (OSError, IndexError):
        return 0


def _launch(instance: Instance, name: str, command: list[str]) -> None:
    with (instance.folder / "log" / f"{name}.log").open("ab") as out:
        child = subprocess.Popen(
            command, stdout=out, stderr=out, stdin=subprocess.DEVNULL, start_new_session=True, cwd="/"
        )
    remember(instance.folder, name, child.pid)


# PostgreSQL -------------------------------------------------------------------
SETTINGS = {
    "listen_addresses": "127.0.0.1",
    "unix_socket_directories": "",
    "max_connections": "80",
    "shared_buffers": "384MB",
    "wal_compression": "on",
    "max_wal_size": "4GB",
    "checkpoint_timeout": "15min",
    "synchronous_commit": "on",
    "fsync": "on",
    "jit": "off",
    "random_page_cost": "1.1",
    "log_timezone": "UTC",
    "timezone": "UTC",
    "autovacuum_naptime": "20s",
    # A transaction that is left open would hold up the stream, or what waits for its locks.
    "idle_in_transaction_session_timeout": "120s",
}


def make_cluster(instance: Instance) -> None:
    """Makes PostgreSQL's data folder the first time. Raises StackError."""
    if not (POSTGRES / "initdb").exists():
        raise StackError("PostgreSQL 15 is missing: run `apt-get install postgresql-15`")
    user = service_account("postgres")
    home = instance.folder / "postgres"
    if home.exists():
        return
    # It has its name when it is whole; what a broken-off start left holds nothing of anybody's.
    half = instance.folder / "postgres.half"
    shutil.rmtree(half, ignore_errors=True)
    _folder(half, user)
    password = instance.folder / "run" / "initial"
    password.write_text(instance.secret("database"))
    password.chmod(0o600)
    if user:
        shutil.chown(password, user)
        (instance.folder / "run").chmod(0o711)
    command = [str(POSTGRES / "initdb"), "-D", str(half), "-U", "oculum", "-A", "scram-sha-256"]
    command += ["--pwfile", str(password), "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions"]
    made = subprocess.run(_as(user, command), capture_output=True, text=True, check=False, cwd="/")
    password.unlink()
    if made.returncode:
        reason = made.stderr.strip().splitlines()[-1] if made.stderr.strip() else "no reason given"
        raise StackError(f"the database could not be made in {home}: {reason}")
    os.replace(half, home)


def launch_postgres(instance: Instance) -> None:
    """Starts PostgreSQL, unless it runs, and does not wait for it. Raises StackError."""
    home = instance.folder / "postgres"
    if found(instance, "postgres", str(home)):
        return
    if port_taken(instance.database_port):
        raise StackError(_taken(instance.database_port, "database", "OCULUM_DATABASE_PORT"))
    command = [str(POSTGRES / "postgres"), "-D", str(home), "-p", str(instance.database_port)]
    for name, value in SETTINGS.items():
        command += ["-c", f"{name}={value}"]
    _launch(instance, "postgres", _as(service_account("postgres"), command))


def wait_for_postgres(instance: Instance, seconds: float = 60) -> None:
    """Until PostgreSQL answers. Raises StackError."""
    import psycopg

    until = time.monotonic() + seconds
    while True:
        try:
            psycopg.connect(instance.database_url("postgres"), connect_timeout=2).close()
            return
        except psycopg.OperationalError as error:
            if time.monotonic() > until:
                log = instance.folder / "log" / "postgres.log"
                last = log.read_text(errors="replace").strip().splitlines()[-1:] if log.exists() else []
                why = " ".join(last) or str(error).strip()
                raise StackError(f"the database does not answer within {seconds:.0f} s: {why} (all in {log})") from None
            time.sleep(0.05)


def start_postgres(instance: Instance) -> None:
    """Makes the cluster the first time, starts it and waits until it answers. Raises StackError."""
    make_cluster(instance)
    launch_postgres(instance)
    wait_for_postgres(instance)


def _taken(port: int, what: str, variable: str) -> str:
    return f"port {port} ({what}) is taken by another program: choose others with --port, or {variable}"


# Mosquitto --------------------------------------------------------------------
PLUGIN = ROOT / ".venv" / "broker" / "marks.so"  # made by the bootstrap script
QUEUE_BYTES = 268_435_456


def _configuration(instance: Instance, home: Path) -> str:
    return "\n".join(
        [
            f"listener {instance.broker_port} 127.0.0.1",
            "allow_anonymous false",
            "use_username_as_clientid true",
            f"password_file {home}/passwords",
            f"acl_file {home}/access",
            f"plugin {home}/marks.so",
            f"plugin_opt_limits {home}/limits",
            f"plugin_opt_backlog {QUEUE_BYTES // 2}",
            "persistence true",
            f"persistence_location {home}/",
            "autosave_interval 5",
            "max_inflight_messages 4000",
            "max_queued_messages 0",
            f"max_queued_bytes {QUEUE_BYTES}",
            "max_packet_size 70000",
            "retain_available false",
            "set_tcp_nodelay true",
            f"log_dest file {home}/mosquitto.log",
            "log_type error",
            "log_type warning",
            "",
        ]
    )


def launch_broker(instance: Instance) -> None:
    """Starts Mosquitto, unless it runs, with the accounts it has been given. Raises StackError."""
    from server.instance.bounds import BYTES_PER_MINUTE, MESSAGES_PER_MINUTE
    from server.intake.accounts import Allowed, keep_own_account

    program = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
    if not Path(program).exists():
        raise StackError("Mosquitto is missing: run `apt-get install mosquitto`")
    if not PLUGIN.exists():
        raise StackError(f"{PLUGIN} is missing: `./oculum up` makes it from server/intake/broker/marks.c")
    user = service_account("mosquitto")
    home = instance.folder / "mosquitto"
    config = home / "mosquitto.conf"
    if found(instance, "broker", str(config)):
        return
    if port_taken(instance.broker_port):
        raise StackError(_taken(instance.broker_port, "broker", "OCULUM_BROKER_PORT"))
    _folder(home, user)
    keep_own_account(instance, Allowed(MESSAGES_PER_MINUTE, BYTES_PER_MINUTE), user)
    shutil.copyfile(PLUGIN, home / "marks.so")
    config.write_text(_configuration(instance, home))
    if user:
        shutil.chown(config, user, user)
        shutil.chown(home / "marks.so", user, user)
    _launch(instance, "broker", _as(user, [program, "-c", str(config)]))


def start_broker(instance: Instance) -> None:
    """Starts Mosquitto and waits until it listens. Raises StackError."""
    launch_broker(instance)
    until = time.monotonic() + 15
    while not listens(instance.broker_port):
        if time.monotonic() > until:
            logs = f"{instance.folder / 'log' / 'broker.log'} and {instance.folder / 'mosquitto' / 'mosquitto.log'}"
            raise StackError(f"the broker did not start: see {logs}")
        time.sleep(0.05)


def listens(port: int) -> bool:
    try:
        socket.create_connection(("127.0.0.1", port), 1).close()
    except OSError:
        return False
    return True


def make_database(instance: Instance) -> bool:
    """Makes the instance's database if it is not there; True if it was made. What is there is never dropped."""
    import psycopg
    from psycopg import sql

    with psycopg.connect(instance.database_url("postgres"), autocommit=True) as connection:
        if connection.execute("select 1 from pg_database where datname = %s", (instance.database_name,)).fetchone():
            return False
        connection.execute(sql.SQL("create database {}").format(sql.Identifier(instance.database_name)))
    return True
