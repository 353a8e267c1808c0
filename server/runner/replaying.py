"""`./oculum replay`: definitions run over the files of a folder, without a server."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import typer

from oculum.clocks import iso_us
from oculum.replay import Counts, FileError, Folder, Passed, differences, play, read_folder

NAMES = (
    "types.csv",
    "fields.csv",
    "sites.csv",
    "devices.csv",
    "setpoints.csv",
    "fences.geojson",
    "readings.csv",
    "payloads.jsonl",
    "downtime.csv",
)


def fail(message: str) -> None:
    typer.echo(f"oculum: {message}", err=True)
    raise typer.Exit(2)


def moment(text: str | None, name: str) -> int | None:
    if text is None:
        return None
    try:
        return iso_us(text)
    except ValueError:
        fail(f"{name}: found `{text}`, expected a time with its zone, such as 2026-01-31T06:00:00Z")
    return None


def texts_of(folder: Path) -> dict[str, str]:
    """The files of a folder that a replay reads, by name."""
    if not folder.is_dir():
        fail(f"{folder}: there is no such folder")
    found = {}
    for path in sorted(folder.iterdir()):
        if path.name in NAMES or path.suffix == ".ocu" or (path.suffix == ".csv" and path.stem.startswith("table ")):
            try:
                found[path.name] = path.read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError) as error:
                fail(f"{path}: {getattr(error, 'strerror', None) or 'the file is no UTF-8 text'}")
    if not any(name.endswith(".ocu") for name in found):
        fail(f"{folder}: there is no definition (.ocu) in this folder")
    for needed in ("types.csv", "devices.csv"):
        if needed not in found:
            fail(f"{folder}: `{needed}` is missing")
    return found


def read(folder: Path) -> Folder:
    try:
        found = read_folder(texts_of(folder))
    except FileError as error:
        fail(str(error))
    for name, problem in found.problems:
        where = f"{folder / name}:{problem.span.line}:{problem.span.column}"
        typer.echo(f"{where}: {problem.severity}: {problem.message}", err=True)
    if any(problem.severity == "error" for _, problem in found.problems):
        raise typer.Exit(2)
    return found


def expected_of(path: Path) -> list[dict[str, Any]]:
    found = []
    try:
        lines = path.read_text(encoding="utf-8").split("\n")
    except (OSError, UnicodeDecodeError) as error:
        fail(f"{path}: {getattr(error, 'strerror', None) or 'the file is no UTF-8 text'}")
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            body = json.loads(line)
        except ValueError as error:
            fail(f"{path}, line {number}: this is no JSON: {error}")
        if not isinstance(body, dict) or not ("device" in body or "site" in body):
            fail(f"{path}, line {number}: expected an object with `device` or `site`")
        found.append(body)
    return found


def replay(folder: Path, since: str | None, until: str | None, as_json: bool, expect: Path | None) -> int:
    """Plays a folder and prints what happens. Returns the exit code: 1 where it is otherwise than expected."""
    begin, end = moment(since, "--from"), moment(until, "--until")
    if begin is not None and end is not None and end < begin:
        fail("--until lies before --from")
    wanted = expected_of(expect) if expect is not None else None
    found = []
    figures: dict[tuple[str, int], Counts] = {}
    for one in play(read(folder), begin, end, figures):
        body = one.as_dict()
        found.append(body)
        if wanted is not None:
            continue
        if as_json:
            typer.echo(json.dumps(body, ensure_ascii=False))
        elif isinstance(one, Passed):
            told = ", ".join(f"{name} {value}" for name, value in one.values.items())
            typer.echo(f"{one.at}  {'sent':16} {'':8} {one.device:20} {one.route} to {one.outlet}: {told}")
        else:
            value = f"  {one.value:g}" if isinstance(one.value, float) else ""
            subject = f"site {one.subject}" if one.on_site else one.subject
            what = one.what.replace("_", " ")
            typer.echo(f"{one.at}  {what:16} {one.priority:8} {subject:20} {one.condition}{value}")
    if wanted is None:
        if not as_json:
            for (route, line), own in figures.items():
                words = f"saw {own.seen}, took {own.took}, could not tell of {own.failed}"
                typer.echo(f"route {route}, line {line}: {words}", err=True)
            typer.echo(_came(found), err=True)
        return 0
    lines = differences(found, wanted)
    if as_json:
        typer.echo(json.dumps({"expected": len(wanted), "found": len(found), "differences": lines}, ensure_ascii=False))
    elif lines:
        typer.echo("\n".join(lines))
    if not as_json:
        typer.echo(
            f"{_came(found)}, {'as expected' if not lines else f'{len(lines)} otherwise than expected'}", err=True
        )
    return 1 if lines else 0


def _came(found: list[dict[str, Any]]) -> str:
    sent = sum("route" in body for body in found)
    count = len(found) - sent
    words = f"{count} transition{'s' if count != 1 else ''}"
    return words + (f", {sent} reading{'s' if sent != 1 else ''} sent" if sent else "")
