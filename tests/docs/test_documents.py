"""Every example in the documents is run: definitions are checked, payloads decoded, commands known."""

from __future__ import annotations

import json
import re
import textwrap
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from oculum.batches import FIRST_REASON, PRESENT, Payloads
from oculum.checks import CRCS, SUMS
from oculum.clocks import iso_us
from oculum.decoding.commands import encode_command
from oculum.decoding.decode import decode
from oculum.language import limits
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.definitions import format_definition
from oculum.language.fields import FieldSpec
from oculum.language.functions import (
    AGGREGATES,
    BUILTINS,
    CLOCK,
    EARLIER,
    FUNCTIONS,
    OF_DEVICE,
    OF_MEMBERS,
    OF_READING,
    PLACES,
    WINDOWS,
)
from oculum.language.kinds import Surroundings
from oculum.language.routes import check_route
from oculum.pipeline import without_context

ROOT = Path(__file__).resolve().parents[2]
DOCUMENTS = sorted([ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
BLOCK = re.compile(r"```(\w+)\n(.*?)```(?:\n\n?```json\n(.*?)```)?", re.S)

THING = {
    "oxygen": FieldSpec("oxygen", "number", "mg/L"),
    "battery": FieldSpec("battery", "number", "V"),
    "water_temp": FieldSpec("water_temp", "number", "Cel"),
    "deep_temp": FieldSpec("deep_temp", "number", "Cel"),
    "mode": FieldSpec("mode", "code", None, ((0, "boot"), (1, "sampling"), (2, "storm"))),
    "slack": FieldSpec("slack", "flag"),
    "fix": FieldSpec("fix", "position"),
    "level": FieldSpec("level", "number", "m"),
}
TYPES = {key: (THING, {"oxygen_min": "mg/L", "level_min": "m"}) for key in ("buoy", "well_probe", "raft_buoy")}
LAMPS = {name: FieldSpec(name, "number", "W/m2") for name in ("uv_intensity", "uv_setpoint")}
TYPES["purification_tank"] = LAMPS, {}


def blocks(kind: str) -> list:
    found = []
    for path in DOCUMENTS:
        for match in re.finditer(rf"```{kind}\n(.*?)```(?:\s*```json\n(.*?)```)?", path.read_text(), re.S):
            line = path.read_text()[: match.start()].count("\n") + 2
            found.append(pytest.param(textwrap.dedent(match[1]), match[2], id=f"{path.name}:{line}"))
    return found


def value_of(spec: Any, column: Any, i: int) -> Any:
    if column.state[i] >= FIRST_REASON:
        return None
    value = column.values[i]
    if spec.kind == "code":
        return dict(spec.codes)[int(value)]
    if spec.kind == "flag":
        return bool(value)
    if spec.kind == "position":
        return value.tolist()
    return value if isinstance(value, str) else value.item()


@pytest.mark.parametrize("text,outcome", blocks("ocu"))
def test_definitions_in_the_documents(text: str, outcome: str | None) -> None:
    """A decoder's block may be followed by JSON: the payload and the readings it must give."""
    assert format_definition(text) == text, "it stands in the document as the formatter lays it out"
    if text.lstrip().startswith("condition") or "\ncondition" in text:
        condition, problems = check_condition(text, TYPES)
        assert condition is not None, [p.message for p in problems]
        return
    if text.startswith("route"):
        around = Surroundings({k: f for k, (f, _) in TYPES.items()}, {k: s for k, (_, s) in TYPES.items()})
        route, problems = check_route(text, around)
        assert route is not None, [p.message for p in problems]
        return
    plan, problems = check_decoder(text)
    assert plan is not None, [p.message for p in problems]
    if outcome is None and "decoder well_probe" in text:
        return  # of the tour, which sends it a payload
    assert outcome is not None, "a decoder is shown with a payload and what comes out"
    example = json.loads(outcome)
    payload = (
        bytes.fromhex(example["hex"])
        if "hex" in example
        else example["text"].encode()
        if "text" in example
        else json.dumps(example["json"]).encode()
    )
    rows = [bytes.fromhex(example["previous_hex"]), payload] if "previous_hex" in example else [payload]
    received = iso_us(example.get("received_at", "1970-01-01T00:00:00Z"))
    batch = Payloads.of(rows, [received] * len(rows), before=np.array([-1, 0][: len(rows)]))
    decoded = without_context(decode(plan, batch), len(rows) - 1)
    if "command" in example:
        name, parameters, written = example["command"]
        said = encode_command(plan, name, parameters)
        assert written in (said.hex(), said.decode(errors="replace"))
    if "refused" in example:
        failure = decoded.failures[decoded.failure[0]]
        assert [failure.code, failure.message] == example["refused"]
        return
    assert decoded.failure[0] < 0, decoded.failures
    found: dict = {}
    for group in decoded.groups:
        for i in range(len(group.rows)):
            for spec in group.fields:
                column = group.columns[spec.name]
                if column.state[i]:
                    found.setdefault(spec.name, []).append(value_of(spec, column, i))
    assert {k: v[0] if len(v) == 1 else v for k, v in found.items()} == example["readings"]
    if "missing" not in example:
        return
    missing = {
        s.name: decoded.reasons[g.columns[s.name].state[0] - FIRST_REASON]
        for g in decoded.groups
        for s in g.fields
        if len(g.rows) and g.columns[s.name].state[0] >= FIRST_REASON
    }
    assert missing == example.get("missing", {})
    assert np.int16(PRESENT) == 1


@pytest.mark.parametrize("text,outcome", blocks("mistake"))
def test_mistakes_in_the_documents(text: str, outcome: str | None) -> None:
    """A faulty line of a condition, and the sentence that comes of it."""
    rule, sentence = text.strip().split("\n")
    _, problems = check_condition(f'condition "c" priority low\n  on buoy\n  {rule}\n', TYPES)
    assert [p.message for p in problems] == [sentence]


def test_every_function_check_and_limit_is_documented() -> None:
    reference = (ROOT / "docs" / "language.md").read_text()
    named = [*EARLIER, *WINDOWS, *CLOCK, *PLACES, *OF_DEVICE, *OF_MEMBERS, *OF_READING]
    for name in [*FUNCTIONS, *AGGREGATES, *BUILTINS, *CRCS, *SUMS, *named]:
        assert f"`{name}" in reference, name
    for value in (
        limits.RECORDS,
        limits.ELEMENTS,
        limits.CBOR_ITEMS,
        limits.REPEAT_DEPTH,
        limits.PATTERN_CHARACTERS,
        limits.SOURCE_CHARACTERS,
        limits.BLOCK_DEPTH,
        limits.EXPRESSION_DEPTH,
        limits.FIELDS,
        limits.REPEATS,
        limits.READINGS_PER_MESSAGE,
        limits.PAYLOAD_BYTES,
        limits.JSON_DEPTH,
    ):
        assert f"{value:,}" in reference, value


def test_commands_in_the_documents_exist() -> None:
    from server.runner.cli import app

    known = {command.name or command.callback.__name__ for command in app.registered_commands}  # type: ignore[union-attr]
    for path in DOCUMENTS:
        for name in re.findall(r"\./oculum ([a-z-]+)", path.read_text()):
            assert name in known, f"{path.name}: ./oculum {name}"


def test_paths_and_pictures_in_the_documents_exist() -> None:
    for path in DOCUMENTS:
        for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", path.read_text()):
            assert (path.parent / target).exists(), f"{path.name}: {target}"


def test_no_registry_host_in_any_file() -> None:
    hosts = ["pypi" + ".org", "registry." + "npmjs", "deb." + "debian"]
    import subprocess

    for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split(
        "\n"
    ):
        path = ROOT / name
        if name and path.is_file() and path.suffix not in (".png", ".woff2"):
            text = path.read_text(errors="ignore")
            assert not any(host in text for host in hosts), name


def headings(path: Path) -> list[str]:
    """Where a link may lead to in a document: its headings, as the interface and others name them."""
    text = re.sub(r"^```.*?^```", "", path.read_text(encoding="utf-8"), flags=re.S | re.M)
    titles = re.findall(r"^#+ (.*)$", text, re.M)
    return [re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-") for title in titles]


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda path: path.name)
def test_every_link_leads_somewhere(path: Path) -> None:
    for target in re.findall(r"\]\(([^)\s]+)\)", path.read_text(encoding="utf-8")):
        if re.match(r"https?:|/", target):
            continue
        file, _, part = target.partition("#")
        there = (path.parent / file).resolve() if file else path
        assert there.exists(), target
        assert not part or part in headings(there), target


def test_the_contents_of_the_language_name_every_section() -> None:
    path = ROOT / "docs" / "language.md"
    contents = re.findall(r"\]\(language\.md#([^)]+)\)", path.read_text(encoding="utf-8").split("\n## ")[0])
    assert contents == headings(path)[1:]
