"""`./oculum export`, `check FOLDER` and `apply`: all that people have written as a folder of text."""

from __future__ import annotations

import csv
import io
import json
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import typer

from oculum.language.definitions import check
from oculum.language.fields import FieldSpec
from oculum.language.kinds import Surroundings
from oculum.language.problems import Problem
from server.runner.misuse import Misuse

ENDS = {".ocu", ".json", ".jsonl", ".csv", ".geojson", ".md"}
WORDS = {
    "created": "+ new      ",
    "changed": "~ changed  ",
    "removed": "- removed  ",
    "left": "  left     ",
    "refused": "! refused  ",
}


def asked(address: str, token: str, body: dict[str, Any] | None = None) -> Any:
    """The answer of the API. Raises Misuse."""
    request = urllib.request.Request(
        f"{address.rstrip('/')}/api/v1/archive",
        json.dumps(body).encode() if body is not None else None,
        {"Authorization": f"Bearer {token}", "Content-Type": "application/json"},
    )
    try:
        with urllib.request.urlopen(request, timeout=120) as answer:
            return json.load(answer)
    except urllib.error.HTTPError as error:
        try:
            said = json.load(error).get("detail", "")
        except ValueError:
            said = ""
        raise Misuse(said or f"{address} answered {error.code}") from None
    except (OSError, ValueError) as error:
        raise Misuse(f"{address} cannot be reached: {error}") from None


def files_in(folder: Path) -> dict[str, str]:
    """The files of an archive by their paths in it. Raises Misuse."""
    if not folder.is_dir():
        raise Misuse(f"{folder}: there is no such folder")
    found = {}
    for path in sorted(folder.rglob("*")):
        inside = path.relative_to(folder)
        if path.is_file() and path.suffix in ENDS and not any(part.startswith(".") for part in inside.parts):
            try:
                found[inside.as_posix()] = path.read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError) as error:
                raise Misuse(f"{path}: {getattr(error, 'strerror', None) or 'the file is no UTF-8 text'}") from None
    if not found:
        raise Misuse(f"{folder}: there is nothing of an archive in it")
    return found


def export(folder: Path, address: str, token: str) -> int:
    """Writes the archive; what an earlier one left and is not there any more is taken away. Returns how many files."""
    files = asked(address, token)["files"]
    known = set(files_in(folder)) if folder.is_dir() and any(folder.iterdir()) else set()
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    for name in sorted(known - files.keys()):
        if name.split("/")[0] in ("types", "decoders", "routes", "conditions", "tables"):
            (folder / name).unlink()
    return len(files)


def applied(folder: Path, address: str, token: str, dry_run: bool, remove: bool) -> int:
    """Prints the plan, and applies it unless it is only looked at. Returns the exit code."""
    answer = asked(address, token, {"files": files_in(folder), "dry_run": dry_run, "remove": remove})
    changes = [change for change in answer["changes"] if change["becomes"] != "unchanged"]
    for change in changes:
        why = f": {change['why']}" if change["why"] else ""
        typer.echo(f"{WORDS[change['becomes']]} {change['kind']:10} {change['name']}  ({change['path']}){why}")
        for line in change["difference"].split("\n")[2:]:
            typer.echo(f"      {line}")
    same = len(answer["changes"]) - len(changes)
    refused = sum(change["becomes"] == "refused" for change in changes)
    end = "applied" if answer["applied"] else "nothing is applied" + (": mend what is refused" if refused else "")
    typer.echo(f"{len(changes)} differ, {same} unchanged; {end}", err=True)
    return 1 if refused else 0


# without a server ------------------------------------------------------------------------------
def problems_in(folder: Path) -> Iterator[tuple[Path, Problem]]:
    """The mistakes of all definitions of an archive, held against its own types, sites, fences and outlets."""
    files = files_in(folder)
    types = [json.loads(text) for name, text in files.items() if name.startswith("types/")]
    fences = json.loads(files.get("fences.geojson", '{"features": []}'))["features"]
    around = Surroundings(
        {t["key"]: {f["name"]: FieldSpec.from_dict(f) for f in t.get("fields", [])} for t in types},
        {t["key"]: {s["name"]: s["unit"] for s in t.get("setpoints", [])} for t in types},
        fences={fence["properties"]["name"] for fence in fences},
        sites={row["name"] for row in csv.DictReader(io.StringIO(files.get("sites.csv", "name\n")))},
        outlets={o["name"] for o in json.loads(files.get("outlets.json", "[]")) if o["kind"] != "mail"},
    )
    for name, text in files.items():
        if name.endswith(".ocu"):
            yield from ((folder / name, problem) for problem in check(text, around)[1])
