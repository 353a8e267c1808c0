"""Bringing an instance up and down, and what a person hears about it."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NoReturn

import typer

from server.instance.files import write_whole
from server.instance.instance import ENGINES, ROOT, Instance
from server.instance.processes import Lock, end
from server.runner.health import Health, health
from server.runner.keeper import parts, prepared, start_guard, stopping
from server.runner.stack import StackError, make_cluster, make_database, port_taken, reachable, wait_for_postgres

NEEDED_BYTES = 1_500_000_000
READY_S = 90


def say(text: str) -> None:
    typer.echo(text, err=True)


def fail(text: str) -> NoReturn:
    typer.echo(f"oculum: {text}", err=True)
    raise typer.Exit(1)


def chosen(port: int | None, data: Path | None) -> Instance:
    """The instance meant, its folder where the services can reach it."""
    if port is not None:
        if not 1024 <= port <= 65_533:
            fail(f"port {port}: choose one from 1024 to 65533")
        os.environ["OCULUM_PORT"] = str(port)
    if data is not None:
        os.environ["OCULUM_DATA"] = str(data.resolve())
    # A checkout that has been copied does not use the data of the one it was copied from.
    elsewhere = Path("/var/lib") / f"oculum-{hashlib.sha256(str(ROOT).encode()).hexdigest()[:8]}"
    moved = ROOT / "var" / "moved-to"
    if "OCULUM_DATA" not in os.environ and moved.exists() and moved.read_text().strip() == str(elsewhere):
        os.environ["OCULUM_DATA"] = str(elsewhere)
    kept = Path(os.environ.get("OCULUM_DATA") or ROOT / "var") / "ports.json"
    before = json.loads(kept.read_text()) if kept.exists() else {}
    if port is None and "OCULUM_PORT" not in os.environ and "web" in before:
        os.environ["OCULUM_PORT"] = str(before["web"])
    os.environ.setdefault("OCULUM_ENGINES", str(before.get("engines", 1)))
    asked = os.environ["OCULUM_ENGINES"]
    if not asked.isascii() or not asked.isdigit() or not 1 <= int(asked) <= len(ENGINES):
        fail(f"OCULUM_ENGINES is `{asked}`: from 1 to {len(ENGINES)} engines may divide the work")
    instance = Instance.from_environment()
    if not reachable(instance.folder):
        if data is not None:
            fail(
                f"the accounts of PostgreSQL and Mosquitto cannot enter {instance.folder}:"
                " choose a folder under /var/lib or /srv with --data"
            )
        elsewhere.mkdir(parents=True, exist_ok=True, mode=0o711)
        moved.parent.mkdir(parents=True, exist_ok=True)
        moved.write_text(str(elsewhere))
        os.environ["OCULUM_DATA"] = str(elsewhere)
        say(f"The services' accounts cannot enter {instance.folder}; data is kept in {elsewhere} instead.")
        instance = Instance.from_environment()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    return instance


def folders(instance: Instance) -> None:
    for name, mode in (("", 0o711), ("run", 0o711), ("log", 0o700), ("secrets", 0o700)):
        (instance.folder / name).mkdir(parents=True, exist_ok=True, mode=mode)


@contextmanager
def alone(instance: Instance) -> Iterator[None]:
    """Only one `up`, `down` or `restore` works at a time."""
    folders(instance)
    lock = Lock(instance.folder, "up")
    if not lock.take():
        say("Another `up`, `down` or `restore` is at work here; waiting for it")
        lock.take(wait=True)
    try:
        yield
    finally:
        lock.free()


def version(instance: Instance) -> str:
    """What runs, as a short word: another one where any of the sources, or the number of engines, is another."""
    found = hashlib.sha256(str(instance.engines).encode())
    for folder in ("core", "server", "demo"):
        for path in sorted((ROOT / folder).rglob("*")):
            if path.suffix in (".py", ".lark", ".c"):
                found.update(path.read_bytes())
    return found.hexdigest()[:16]


def keeper_runs(instance: Instance) -> bool:
    return Lock(instance.folder, "keeper").held()


def runs(instance: Instance) -> bool:
    """Whether the instance is kept going already; if it is, waits until all of it works. Raises StackError."""
    if not (keeper_runs(instance) and prepared(instance).exists()):
        return False
    if prepared(instance).read_text() != version(instance):
        say("Another version runs, or another number of engines; it is stopped, and this one is started.")
        stop_all(instance)
        return False
    say("Oculum runs already." if health(instance).whole else "Oculum runs, but not all of it; waiting for the rest")
    wait_until_whole(instance)
    return True


def bring_up(instance: Instance, demo: Callable[[], dict[str, str]] | None) -> dict[str, str]:
    """Everything started and well. Returns the sign-ins that were made on the way. Raises StackError.

    demo: loads the demo where nobody is registered yet, and returns its sign-ins; without it, there is one
    administrator.
    """
    if shutil.disk_usage(instance.folder).free < NEEDED_BYTES:
        raise StackError(
            f"the disk of {instance.folder} has less than 1.5 GB left: free some, or choose another folder with --data"
        )
    stop_all(instance)  # what an earlier run may have left without its keeper
    if port_taken(instance.web_port):
        raise StackError(f"port {instance.web_port} (web) is taken by another program: choose another with --port")
    write_whole(instance.folder / "ports.json", {"web": instance.web_port, "engines": instance.engines})
    try:
        say("Starting database and broker")
        start_services(instance)
        sign_ins = prepare(instance, demo is None)
        prepared(instance).write_text(version(instance))
        wait_until_whole(instance)
        if demo is not None:
            sign_ins |= demo()
            wait_until_whole(instance)  # the demo's fleet begins when its history is there
        return sign_ins
    except BaseException:
        say("Stopping")
        stop_all(instance)
        raise


def start_services(instance: Instance) -> None:
    """Database and broker, kept going by a keeper. Raises StackError."""
    make_cluster(instance)
    for mark in (stopping(instance), prepared(instance)):
        mark.unlink(missing_ok=True)
    start_guard(instance)
    wait_for_postgres(instance)


def prepare(instance: Instance, empty: bool) -> dict[str, str]:
    """The tables as this version needs them, and somebody who can sign in. Returns the sign-ins made."""
    if make_database(instance):
        say("Making the tables")
    import django

    django.setup()
    from django.core.management import call_command
    from django.db import connection

    call_command("migrate", verbosity=0)
    call_command("collectstatic", verbosity=0, interactive=False)
    from server.records.people.models import Person
    from server.rules.passwords import first_password

    made = {}
    if empty and not Person.objects.exists():
        person = Person(username="admin", first_name="Administrator", role="admin")
        made["admin"] = first_password(person)
    connection.close()
    return made


def wait_until_whole(instance: Instance, seconds: float = READY_S) -> Health:
    """Until every part does its work. Raises StackError, with what does not."""
    until = time.monotonic() + seconds
    while True:
        found = health(instance)
        if found.whole:
            return found
        if time.monotonic() > until:
            bad = "; ".join(f"{name}: {part.what}" for name, part in found.parts.items() if not part.works)
            raise StackError(
                f"not everything works after {seconds:.0f} s: {bad}. Logs are in {instance.folder / 'log'}"
            )
        time.sleep(0.1)


def tell_sign_ins(sign_ins: dict[str, str]) -> None:
    for name, password in sign_ins.items():
        typer.echo(f"  sign in as {name:8} {password}")


def tell(instance: Instance, sign_ins: dict[str, str]) -> None:
    typer.echo(f"Oculum is at {instance.address}")
    if sign_ins:
        tell_sign_ins(sign_ins)
        typer.echo("  passwords are shown this once; `./oculum person password NAME` gives a new one")
    else:
        typer.echo("  a password that is forgotten: `./oculum person password NAME` gives a new one")
    typer.echo(
        f"  broker 127.0.0.1:{instance.broker_port}, database 127.0.0.1:{instance.database_port}, data"
        f" {instance.folder}"
    )


def stop_all(instance: Instance) -> None:
    """Everything stopped, in order; nobody starts it again."""
    folders(instance)
    stopping(instance).touch()
    end(instance.folder, "guard")
    end(instance.folder, "keeper", patience=120)
    for name in [*reversed(parts(instance)), *ENGINES]:  # there may have been more engines before
        end(instance.folder, name)
    end(instance.folder, "broker")
    end(instance.folder, "postgres", signal.SIGINT, 60)
    prepared(instance).unlink(missing_ok=True)
