"""The command line: up, down, status, test, bench, check, format."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from server.instance.instance import ROOT
from server.runner.health import health
from server.runner.keeper import stopping
from server.runner.lifecycle import (
    alone,
    bring_up,
    chosen,
    fail,
    keeper_runs,
    prepare,
    runs,
    say,
    stop_all,
    tell,
    tell_sign_ins,
)
from server.runner.misuse import Misuse
from server.runner.stack import StackError, start_postgres

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
        with alone(instance):
            if runs(instance):
                tell(instance, {})
                return
            sign_ins = bring_up(instance, None if empty else demo)
    except StackError as error:
        fail(str(error))
    except KeyboardInterrupt:
        raise typer.Exit(130) from None
    say(f"Ready after {time.monotonic() - began:.0f} s.")
    tell(instance, sign_ins)
    if detach:
        return
    say("Ctrl-C stops everything.")
    try:
        while not stopping(instance).exists():
            time.sleep(0.5)
    except KeyboardInterrupt:
        say("\nStopping")
        with alone(instance):
            stop_all(instance)


def demo() -> dict[str, str]:
    """The demo's days through the inbox, from where an earlier load was broken off. Returns its sign-ins."""
    from demo import load

    sign_ins = load.begin()
    if not load.unfinished():
        return sign_ins
    began = time.monotonic()
    try:
        with typer.progressbar(length=1000, label=f"Loading {load.DAYS} days of the demo", file=sys.stderr) as bar:

            def progress(share: float) -> None:
                bar.update(int(1000 * share) - bar.pos)

            count = load.load_messages(progress)
    except BaseException:
        tell_sign_ins(sign_ins)  # shown this once, whatever becomes of the load
        raise
    say(f"{count:,} messages loaded and worked off in {time.monotonic() - began:.0f} s.")
    return sign_ins


@app.command()
def down(port: Port = None, data: Data = None) -> None:
    """Stops everything, in order."""
    instance = chosen(port, data)
    with alone(instance):
        stop_all(instance)
    say("Stopped.")


@app.command()
def status(port: Port = None, data: Data = None, as_json: Annotated[bool, typer.Option("--json")] = False) -> None:
    """What works, where, and how far behind. Exit code 3 where a part does not do its work."""
    instance = chosen(port, data)
    found = health(instance)
    where = {
        "web": instance.address,
        "postgres": f"127.0.0.1:{instance.database_port}",
        "broker": f"127.0.0.1:{instance.broker_port}",
    }
    if as_json:
        typer.echo(json.dumps(found.as_dict() | {"where": where, "folder": str(instance.folder)}, default=str))
    else:
        for name, part in found.parts.items():
            word = "works" if part.works else part.what
            number = f", process {part.pid}" if part.pid else ""
            typer.echo(f"{name:10} {word + number:40} {where.get(name, '')}".rstrip())
        stream = found.stream
        if stream.waiting is not None:
            oldest = f", the oldest for {stream.oldest_s:.0f} s" if stream.oldest_s is not None else ""
            typer.echo(
                f"engine: {stream.waiting:,} messages wait{oldest}; {stream.taken:,} taken,"
                f" last batch {stream.last_batch}"
            )
        for notice in found.notices:
            typer.echo(f"notice: {notice}")
        typer.echo(f"data: {instance.folder}")
    if not found.whole:
        raise typer.Exit(3)


@app.command()
def backup(
    file: Annotated[Path, typer.Argument(help="the file to write")], port: Port = None, data: Data = None
) -> None:
    """Writes a backup while everything runs: the database as of one moment, and the secrets that belong to it."""
    from server.runner import backup as backups

    try:
        backups.backup(chosen(port, data), file, say)
    except StackError as error:
        fail(str(error))


@app.command()
def restore(
    file: Annotated[Path, typer.Argument(help="a file that `backup` has written")],
    port: Port = None,
    data: Data = None,
    replace: Annotated[
        str | None, typer.Option(help="the name of the data folder, where what is in it is to be replaced")
    ] = None,
) -> None:
    """Puts a backup into a data folder. What is in use there is replaced only if its name is given."""
    from server.runner import backup as backups

    instance = chosen(port, data)
    try:
        backups.read_manifest(file)
        with alone(instance):
            if keeper_runs(instance):
                fail("Oculum runs on this folder: stop it first with `./oculum down`")
            stop_all(instance)
            start_postgres(instance)
            try:
                if backups.holds_something(instance):
                    name = instance.folder.name
                    given = replace
                    if given is None and sys.stdin.isatty():
                        say(f"{instance.folder} is in use; what is in it would be replaced by the backup.")
                        given = typer.prompt(f"Type its name, `{name}`, to replace it", default="", err=True)
                    if given != name:
                        fail(f"{instance.folder} is in use and stays as it is; `--replace {name}` replaces it")
                backups.restore(instance, file, say)
                prepare(instance, False)
            finally:
                stop_all(instance)
    except StackError as error:
        fail(str(error))
    say("Start it with `./oculum up`.")


@app.command()
def clock(
    port: Port = None,
    data: Data = None,
    accept: Annotated[bool, typer.Option("--accept", help="the clock is right: retention follows it again")] = False,
) -> None:
    """The clock by which old data is deleted, and whether the clock of this machine has leapt away from it."""
    import psycopg

    instance = chosen(port, data)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    from server.store.house import accept_clock, kept_clock

    try:
        with psycopg.connect(instance.database_url(), connect_timeout=5, autocommit=True) as connection:
            if accept:
                accept_clock(connection)
            found = kept_clock(connection)
    except psycopg.Error as error:
        fail(f"the database does not answer: {str(error).strip().splitlines()[0]}")
    if found is None:
        typer.echo("the engine has not run yet")
    elif found.leapt_at is None:
        typer.echo(f"retention counts from {found.trusted:%Y-%m-%d %H:%M} UTC; the clock has not leapt")
    else:
        typer.echo(
            f"the clock leapt from {found.leapt_from:%Y-%m-%d %H:%M} to {found.leapt_at:%Y-%m-%d %H:%M} UTC;"
            f" retention counts from {found.trusted:%Y-%m-%d %H:%M} until `./oculum clock --accept` says it is right"
        )


@app.command("person", context_settings={"allow_extra_args": True, "ignore_unknown_options": True})
def person(context: typer.Context, port: Port = None, data: Data = None) -> None:
    """People: `list`, `add NAME --role ROLE`, `password NAME`, `role NAME ROLE`. Needs no sign-in."""
    chosen(port, data)
    import django

    django.setup()
    from server.runner.people import app as people

    people(context.args or ["--help"], prog_name="oculum person")


@app.command()
def replay(
    folder: Annotated[Path, typer.Argument(help="a folder of definitions, tables and readings")],
    since: Annotated[str | None, typer.Option("--from", help="tell nothing of what happens before this time")] = None,
    until: Annotated[str | None, typer.Option(help="the clock goes on up to this time")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="a JSON object a line")] = False,
    expect: Annotated[Path | None, typer.Option(help="JSON lines that must come; exit code 1 if they do not")] = None,
) -> None:
    """Runs definitions over the files of a folder: alarms as they would be raised and cleared. Needs no server."""
    from server.runner import replaying

    raise typer.Exit(replaying.replay(folder, since, until, as_json, expect))


@app.command()
def test(
    only: Annotated[
        list[str] | None,
        typer.Argument(help="style, types, core, server, web, operation, browser; all if none is named"),
    ] = None,
) -> None:
    """Style, types, core, server and browser tests."""
    from server.runner.testing import run_tests

    raise typer.Exit(run_tests(only or []))


@app.command()
def bench(
    name: Annotated[
        str,
        typer.Argument(
            help="alarms, decode, faults, fuzz, ingest, live, outbox, query, redecode, routes, screens, trial"
        ),
    ],
    seconds: Annotated[float, typer.Option("--seconds", help="about how long it measures")] = 10,
    rounds: Annotated[int, typer.Option("--rounds", help="of `faults`: how many there are")] = 20,
    as_json: Annotated[bool, typer.Option("--json", help="one JSON object on standard output")] = False,
) -> None:
    """Measures; progress goes to standard error."""
    import benchmarks

    if name not in benchmarks.NAMES:
        fail(f"there is no benchmark `{name}`: choose {' or '.join(benchmarks.NAMES)}")
    found = benchmarks.run(name, seconds, rounds)
    if as_json:
        typer.echo(json.dumps(found))
        return
    for kind in ("figures", "ratios"):
        for key, value in found[kind].items():
            typer.echo(f"{key:28} {value:,.3f}" if isinstance(value, float) else f"{key:28} {value:,}")


Address = Annotated[str | None, typer.Option("--url", help="of Oculum; of this instance, if not given")]
Token = Annotated[
    str, typer.Option("--token", envvar="OCULUM_TOKEN", help="of an administrator, as Settings makes it; OCULUM_TOKEN")
]


@app.command()
def export(folder: Path, url: Address = None, token: Token = "", port: Port = None, data: Data = None) -> None:
    """Writes types, definitions, tables, fences, sites and ways of telling into a folder as text."""
    from server.runner import archiving

    try:
        count = archiving.export(folder, url or chosen(port, data).address, token)
    except Misuse as error:
        fail(str(error))
    say(f"{count} files in {folder}.")


@app.command("apply")
def apply_(
    folder: Path,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="only show the plan")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="also remove what is not in the folder")] = False,
    url: Address = None,
    token: Token = "",
    port: Port = None,
    data: Data = None,
) -> None:
    """Makes what is written in a folder true, all of it or nothing. Exit code 1 if something is refused."""
    from server.runner import archiving

    try:
        code = archiving.applied(folder, url or chosen(port, data).address, token, dry_run, remove)
    except Misuse as error:
        fail(str(error))
    raise typer.Exit(code)


@app.command()
def check(files: list[Path]) -> None:
    """Check definitions, or a folder of them: every mistake as file:line:column. Exit code 1 if there is one."""
    from server.runner import archiving, workbench

    failed = False
    for path in files:
        try:
            if path.is_dir():
                problems = list(archiving.problems_in(path))
            else:
                problems = [(path, problem) for problem in workbench.problems_of(path)]
        except Misuse as error:
            typer.echo(str(error), err=True)
            failed = True
            continue
        for file, problem in problems:
            failed = failed or problem.severity == "error"
            word = "" if problem.severity == "error" else "warning: "
            typer.echo(f"{file}:{problem.span.line}:{problem.span.column}: {word}{problem.message}")
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
            raise Misuse("give one of --hex, --text, --file and --cases")
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
    except (Misuse, OSError) as error:
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
    """Write a command of a definition: bytes and CBOR in hexadecimal digits, JSON and text as they are.

    Exit code 1 if a parameter is refused.
    """
    from oculum.decoding.commands import CommandError
    from server.runner import workbench

    try:
        plan = workbench.decoder(definition)
        own = workbench.constants(plan, workbench.pairs(constant or [], "a constant"))
        typer.echo(workbench.encode(plan, command, workbench.pairs(parameters or [], "a parameter"), own))
    except Misuse as error:
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
    from oculum.language.definitions import format_definition
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
