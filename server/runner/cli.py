"""The command line: up, down, status, test, bench, check, format."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Annotated, Any
from urllib.error import URLError
from urllib.request import urlopen

import typer

from .instance import ROOT, Instance
from .keeper import PARTS, running
from .stack import StackError, alive, make_database, port_taken, reachable, start_broker, start_postgres, stop

app = typer.Typer(
    add_completion=False,
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    help="Oculum: decoders, routes and alarms for fleets of field devices.",
)
Port = Annotated[
    int | None, typer.Option("--port", help="port of the web server; database and broker take the next two")
]
Data = Annotated[Path | None, typer.Option("--data", help="folder for all data")]


def say(text: str) -> None:
    typer.echo(text, err=True)


def fail(text: str) -> None:
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
    moved = ROOT / "var" / "moved-to"
    if "OCULUM_DATA" not in os.environ and moved.exists():
        os.environ["OCULUM_DATA"] = moved.read_text().strip()
    kept = Path(os.environ.get("OCULUM_DATA") or ROOT / "var") / "ports.json"
    if port is None and "OCULUM_PORT" not in os.environ and kept.exists():
        os.environ["OCULUM_PORT"] = str(json.loads(kept.read_text())["web"])
    instance = Instance.from_environment()
    if not reachable(instance.folder):
        if data is not None:
            fail(
                f"the accounts of PostgreSQL and Mosquitto cannot enter {instance.folder}: choose a folder under /var/lib or /srv with --data"
            )
        import hashlib

        elsewhere = Path("/var/lib") / f"oculum-{hashlib.sha256(str(ROOT).encode()).hexdigest()[:8]}"
        elsewhere.mkdir(parents=True, exist_ok=True, mode=0o711)
        moved.parent.mkdir(parents=True, exist_ok=True)
        moved.write_text(str(elsewhere))
        os.environ["OCULUM_DATA"] = str(elsewhere)
        say(f"The services' accounts cannot enter {instance.folder}; data is kept in {elsewhere} instead.")
        instance = Instance.from_environment()
    return instance


def folders(instance: Instance) -> None:
    for name, mode in (("", 0o711), ("run", 0o711), ("log", 0o700), ("secrets", 0o700)):
        (instance.folder / name).mkdir(parents=True, exist_ok=True, mode=mode)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")


def answers(instance: Instance) -> bool:
    try:
        with urlopen(f"{instance.address}alive", timeout=1) as response:
            return response.status == 200
    except (URLError, OSError):
        return False


@app.command()
def up(
    port: Port = None,
    data: Data = None,
    empty: Annotated[bool, typer.Option("--empty", help="start without the demo, with one administrator")] = False,
    detach: Annotated[bool, typer.Option("--detach", help="return when all is ready")] = False,
) -> None:
    """Sets up what is missing and starts everything on loopback."""
    began = time.monotonic()
    instance = chosen(port, data)
    try:
        if answers(instance) and alive(instance, "keeper"):
            say("Oculum runs already.")
            tell(instance)
            return
        folders(instance)
        if shutil.disk_usage(instance.folder).free < 1_500_000_000:
            fail(
                f"the disk of {instance.folder} has less than 1.5 GB left: free some, or choose another folder with --data"
            )
        (instance.folder / "ports.json").write_text(json.dumps({"web": instance.web_port}))
        if port_taken(instance.web_port):
            fail(f"port {instance.web_port} (web) is taken by another program: choose another with --port")
        say("Starting database and broker")
        start_postgres(instance)
        halfway = (instance.folder / "demo.wanted").exists() and not (instance.folder / "demo.json").exists()
        if halfway:
            say("The demo was not loaded to its end the last time; it is loaded afresh.")
        made = make_database(instance, afresh=halfway)
        start_broker(instance)
        prepare(instance, made, empty)
        keeper(instance)
        wait_ready(instance)
        if not empty and not (instance.folder / "demo.json").exists() and (instance.folder / "demo.wanted").exists():
            demo(instance)
    except StackError as error:
        stop_all(instance)
        fail(str(error))
    except KeyboardInterrupt:
        say("Stopping")
        stop_all(instance)
        raise typer.Exit(130) from None
    say(f"Ready after {time.monotonic() - began:.0f} s.")
    tell(instance)
    if detach:
        return
    say("Ctrl-C stops everything.")
    try:
        while alive(instance, "keeper"):
            time.sleep(0.5)
    except KeyboardInterrupt:
        say("\nStopping")
        stop_all(instance)


def prepare(instance: Instance, made: bool, empty: bool) -> None:
    import django

    django.setup()
    from django.core.management import call_command

    if made:
        say("Making the tables")
    call_command("migrate", verbosity=0)
    call_command("collectstatic", verbosity=0, interactive=False)
    from server.access.models import Person

    if not empty and not Person.objects.exists():
        (instance.folder / "demo.wanted").touch()
    if empty and not Person.objects.exists():
        import secrets

        password = "-".join(secrets.token_hex(2) for _ in range(4))
        person = Person(username="admin", first_name="Administrator", role="admin")
        person.set_password(password)
        person.save()
        instance.keep_private("sign-in.json", {"admin": password})
    from django.db import connection

    connection.close()


def keeper(instance: Instance) -> None:
    """The process that starts the others and keeps them running, in a session of its own."""
    for name in ("keeper", *PARTS):
        (instance.folder / "run" / f"{name}.ready").unlink(missing_ok=True)
    with (instance.folder / "log" / "keeper.log").open("ab") as out:
        child = subprocess.Popen(
            [sys.executable, "-m", "server.runner.keeper"],
            env=instance.environment(),
            cwd=ROOT,
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
    (instance.folder / "run" / "keeper.pid").write_text(str(child.pid))


def wait_ready(instance: Instance, seconds: float = 60) -> None:
    until = time.monotonic() + seconds
    wanted = [instance.folder / "run" / f"{name}.ready" for name in ("intake", "engine")]
    while not (answers(instance) and all(path.exists() for path in wanted)):
        if time.monotonic() > until or not alive(instance, "keeper"):
            raise StackError(f"not everything started: look into {instance.folder / 'log'}")
        time.sleep(0.05)


def demo(instance: Instance) -> None:
    """Thirty days of the demo through the inbox, with a progress bar."""
    from demo.load import load_messages, load_records
    from demo.signals import now_us
    from server.access.models import Person

    began = time.monotonic()
    if not Person.objects.exists():
        load_records()
    end = now_us()
    # The living fleet starts where history ends, and fills the minute that loading took.
    with typer.progressbar(length=1000, label="Loading thirty days of the demo", file=sys.stderr) as bar:

        def progress(sent: int, done: int, total: int) -> None:
            bar.update(int(1000 * (0.25 * sent + 0.75 * done) / total) - bar.pos)

        count = load_messages(end, progress)
    (instance.folder / "demo.json").write_text(json.dumps({"end_us": end}))
    say(f"{count:,} messages loaded and worked off in {time.monotonic() - began:.0f} s.")


def tell(instance: Instance) -> None:
    typer.echo(f"Oculum is at {instance.address}")
    for name, password in (instance.private("sign-in.json") or {}).items():
        typer.echo(f"  sign in as {name:8} {password}")
    typer.echo(
        f"  broker 127.0.0.1:{instance.broker_port}, database 127.0.0.1:{instance.database_port}, data {instance.folder}"
    )


def stop_all(instance: Instance) -> None:
    stop(instance, "keeper", patience=30)
    for name in reversed(PARTS):
        stop(instance, name)
    stop(instance, "broker")
    stop(instance, "postgres", signal.SIGINT, patience=60)


@app.command()
def down(port: Port = None, data: Data = None) -> None:
    """Stops everything, in order."""
    stop_all(chosen(port, data))
    say("Stopped.")


@app.command()
def status(port: Port = None, data: Data = None, as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """What runs, where, and how far behind."""
    instance = chosen(port, data)
    found = running(instance)
    where = {
        "web": instance.address,
        "postgres": f"127.0.0.1:{instance.database_port}",
        "broker": f"127.0.0.1:{instance.broker_port}",
    }
    behind: dict[str, object] = {}
    if found["postgres"]:
        import psycopg

        try:
            with psycopg.connect(instance.database_url(), connect_timeout=3) as connection:
                row = connection.execute(
                    "select coalesce(sum(w.waiting), 0)::bigint, max(c.messages), max(c.at) from engine_cursor c cross join lateral (select count(*) as waiting from"
                    " (select 1 from message m where m.part = c.part and (m.txid, m.id) > (c.txid, c.id) limit 1000000) x) w"
                ).fetchone()
            if row:
                behind = {
                    "waiting_messages": row[0],
                    "taken_messages": row[1],
                    "last_batch": row[2].isoformat() if row[2] else None,
                }
        except psycopg.Error as error:
            behind = {"error": str(error).strip()}
    if as_json:
        typer.echo(json.dumps({"parts": found, "where": where, "engine": behind, "folder": str(instance.folder)}))
    else:
        for name, pid in found.items():
            typer.echo(f"{name:10} {'running, process ' + str(pid) if pid else 'not running':28} {where.get(name, '')}")
        if behind:
            typer.echo(
                f"engine: {behind.get('waiting_messages', '?')} messages wait, {behind.get('taken_messages') or 0} taken, last batch {behind.get('last_batch')}"
            )
        typer.echo(f"data: {instance.folder}")
    if not all(found[name] for name in ("postgres", "broker", "web", "intake", "engine")):
        raise typer.Exit(3)


@app.command()
def test(
    only: Annotated[
        list[str] | None, typer.Argument(help="style, types, core, server, web, browser; all if none is named")
    ] = None,
) -> None:
    """Style, types, core, server and browser tests."""
    from .testing import run_tests

    raise typer.Exit(run_tests(only or []))


@app.command()
def bench(
    name: Annotated[str, typer.Argument(help="decode or ingest")],
    seconds: Annotated[float, typer.Option("--seconds", help="about how long it measures")] = 10,
    as_json: Annotated[bool, typer.Option("--json", help="one JSON object on standard output")] = False,
) -> None:
    """Measures; progress goes to standard error."""
    import benchmarks

    if name not in benchmarks.BENCHES:
        fail(f"there is no benchmark `{name}`: choose {' or '.join(benchmarks.BENCHES)}")
    found = benchmarks.run(name, seconds)
    if as_json:
        typer.echo(json.dumps(found))
        return
    for kind in ("figures", "ratios"):
        for key, value in found[kind].items():
            typer.echo(f"{key:28} {value:,.3f}" if isinstance(value, float) else f"{key:28} {value:,}")


@app.command()
def check(files: list[Path]) -> None:
    """Check definitions: every mistake as file:line:column. Exit code 1 if there is one."""
    from server.runner import workbench

    failed = False
    for path in files:
        try:
            problems = workbench.problems_of(path)
        except workbench.Misuse as error:
            typer.echo(str(error), err=True)
            failed = True
            continue
        for problem in problems:
            failed = failed or problem.severity == "error"
            word = "" if problem.severity == "error" else "warning: "
            typer.echo(f"{path}:{problem.span.line}:{problem.span.column}: {word}{problem.message}")
    raise typer.Exit(1 if failed else 0)


@app.command()
def decode(
    definition: Annotated[Path, typer.Option(help="the decoder's file")],
    hex_: Annotated[str | None, typer.Option("--hex", help="a payload in hexadecimal digits")] = None,
    text: Annotated[str | None, typer.Option(help="a payload as text")] = None,
    file: Annotated[Path | None, typer.Option(help="a file that holds one payload")] = None,
    cases: Annotated[Path | None, typer.Option(help="a file of cases, one JSON object a line")] = None,
    at: Annotated[str | None, typer.Option(help="the moment of arrival; now, if not given")] = None,
    header: Annotated[
        list[str] | None, typer.Option(help="what the transport knows, as NAME=VALUE; `topic` is one")
    ] = None,
    constant: Annotated[list[str] | None, typer.Option(help="a constant of the device, as NAME=VALUE")] = None,
    previous_hex: Annotated[str | None, typer.Option(help="the payload before this one, of the same device")] = None,
    json_out: Annotated[bool, typer.Option("--json-out", help="one JSON object instead of a table")] = False,
) -> None:
    """Decode payloads by a definition. Exit code 1 if the payload is refused, 2 if something given cannot be used."""
    import json

    from server.runner import workbench

    try:
        plan = workbench.decoder(definition)
        if sum(given is not None for given in (hex_, text, file, cases)) != 1:
            raise workbench.Misuse("give one of --hex, --text, --file and --cases")
        if cases is not None:
            for where, one in workbench.cases(cases):
                typer.echo(json.dumps(workbench.decode_case(plan, one, where), ensure_ascii=False))
            return
        case: dict[str, Any] = {
            "headers": workbench.pairs(header or [], "a header"),
            "constants": workbench.constants(plan, workbench.pairs(constant or [], "a constant")),
        }
        if file is not None:
            case["payload_hex"] = file.read_bytes().hex()
        elif hex_ is not None:
            case["payload_hex"] = hex_
        else:
            case["payload_text"] = text
        if at is not None:
            case["received_at"] = at
        if previous_hex is not None:
            case["previous_hex"] = previous_hex
        result = workbench.decode_case(plan, case)
    except (workbench.Misuse, OSError) as error:
        typer.echo(str(error), err=True)
        raise typer.Exit(2) from None
    if json_out:
        typer.echo(json.dumps(result, ensure_ascii=False))
    else:
        typer.echo("\n".join(workbench.table(result)))
    raise typer.Exit(1 if "error" in result else 0)


@app.command()
def encode(
    parameters: Annotated[list[str] | None, typer.Argument(help="parameters, as NAME=VALUE")] = None,
    definition: Annotated[Path, typer.Option(help="the decoder's file")] = Path(),
    command: Annotated[str, typer.Option(help="the name of the command")] = "",
    constant: Annotated[list[str] | None, typer.Option(help="a constant of the device, as NAME=VALUE")] = None,
) -> None:
    """Write a command of a definition as bytes, in hexadecimal digits. Exit code 1 if a parameter is refused."""
    from oculum.decoding.commands import CommandError
    from server.runner import workbench

    try:
        plan = workbench.decoder(definition)
        own = workbench.constants(plan, workbench.pairs(constant or [], "a constant"))
        typer.echo(workbench.encode(plan, command, workbench.pairs(parameters or [], "a parameter"), own).hex())
    except workbench.Misuse as error:
        typer.echo(str(error), err=True)
        raise typer.Exit(2) from None
    except CommandError as error:
        typer.echo(f"{error.code}: {error}", err=True)
        raise typer.Exit(1) from None


@app.command("api-types")
def api_types() -> None:
    """Writes the front end's types anew from the API, after a change of it."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import tempfile

    import django

    django.setup()
    from django.core.management import call_command

    with tempfile.TemporaryDirectory() as folder:
        document = Path(folder) / "api.yml"
        call_command("spectacular", file=str(document))
        subprocess.run(
            ["npm", "exec", "--silent", "--", "openapi-typescript", str(document), "-o", "src/api/schema.d.ts"],
            cwd=ROOT / "web",
            check=True,
        )


@app.command("format")
def format_(
    files: list[Path],
    check: Annotated[bool, typer.Option("--check", help="change nothing, only say what would change")] = False,
) -> None:
    """Gives definitions their canonical layout."""
    from oculum.language.formatter import format_definition
    from oculum.language.problems import DefinitionError

    bad = False
    for file in files:
        try:
            before = file.read_text()
            after = format_definition(before)
        except OSError as error:
            fail(f"{file}: {error.strerror}")
        except DefinitionError as error:
            bad = True
            for p in error.problems:
                typer.echo(f"{file}:{p.span.line}:{p.span.column}: {p.message}")
            continue
        if before != after:
            if check:
                bad = True
                typer.echo(f"{file}: would be laid out anew")
            else:
                file.write_text(after)
    raise typer.Exit(int(bad))
