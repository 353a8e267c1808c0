"""Definitions from the command line, with no server: check, decode, encode."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.clocks import iso_us
from oculum.decoding.commands import encode_command
from oculum.decoding.level import FIRST_US
from oculum.language.checking import UNKNOWN_UNIT
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.decoders.plan import DecoderPlan, EachStep
from oculum.language.kinds import Surroundings
from oculum.language.problems import Problem, Span
from oculum.language.routes import check_route
from oculum.pipeline import decode_batch
from server.runner.misuse import Misuse


@cache
def _plan(path: Path) -> tuple[DecoderPlan | None, tuple[Problem, ...]]:
    def other(name: str) -> DecoderPlan | None:
        beside = path.parent / f"{name}.ocu"
        return _plan(beside)[0] if beside != path and beside.is_file() else None

    plan, problems = check_decoder(read(path), others=other)
    return plan, tuple(problems)


def read(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise Misuse(f"{path}: {getattr(error, 'strerror', None) or 'the file is no UTF-8 text'}") from None


def problems_of(path: Path) -> list[Problem]:
    """Errors and warnings of one file; the fields of a condition or a route are those of the decoders beside it."""
    text = read(path)
    first = next((line for line in text.split("\n") if line.strip() and not line.lstrip().startswith("#")), "")
    word = first.split(" ")[0]
    if word not in ("condition", "route"):
        return list(_plan(path.resolve())[1])
    types = {}
    for beside in sorted(path.resolve().parent.glob("*.ocu")):
        plan = _plan(beside)[0] if "decoder" in read(beside) else None
        if plan is not None:
            types[plan.name] = ({spec.name: spec for spec in plan.all_fields}, _Anything())
    if not types:
        return [
            Problem(
                f"a {word} is checked against the decoder of its device type: put it into the same directory",
                Span(1, 1, 2),
                "warning",
            )
        ]
    if word == "route":
        around = Surroundings({k: fields for k, (fields, _) in types.items()}, {k: _Anything() for k in types})
        return check_route(text, around)[1]
    return check_condition(text, types)[1]


class _Anything(dict[str, str]):
    """Setpoints of a type that is not known here: every name is one, in a unit that is not known either."""

    def __contains__(self, name: object) -> bool:
        return True

    def __getitem__(self, name: str) -> str:
        return UNKNOWN_UNIT


def decoder(path: Path) -> DecoderPlan:
    """A decoder from its file. Raises Misuse with every error."""
    plan, problems = _plan(path.resolve())
    if plan is None:
        raise Misuse(
            "\n".join(f"{path}:{p.span.line}:{p.span.column}: {p.message}" for p in problems if p.severity == "error")
        )
    return plan


def decode_case(plan: DecoderPlan, case: Mapping[str, Any], where: str = "") -> dict[str, Any]:
    """The answer to one case. Raises Misuse where the case itself is faulty."""
    payload = _payload(case, where)
    received = case.get("received_at")
    try:
        at = iso_us(str(received)) if received is not None else _now()
    except ValueError:
        raise Misuse(f'{where}`received_at` is "{received}", expected a time such as 2026-03-02T09:10:00Z') from None
    headers = {str(k): str(v) for k, v in _mapping(case, "headers", where).items()}
    constants = _mapping(case, "constants", where)
    for spec in plan.constants:
        given = constants.get(spec.name)
        fine = (
            isinstance(given, str)
            if spec.kind == "text"
            else isinstance(given, bool)
            if spec.kind == "flag"
            else isinstance(given, int | float) and not isinstance(given, bool)
        )
        if given is not None and not fine:
            raise Misuse(f"{where}the constant `{spec.name}` is {json.dumps(given)[:40]}, expected a {spec.kind}")
    rows, before = [payload], [-1]
    if case.get("previous_hex") is not None:
        rows, before = [_hex(case["previous_hex"], "previous_hex", where), payload], [-1, 0]
    count = len(rows)
    batch = Payloads.of(rows, [at] * count, [headers] * count, [constants] * count, np.array(before))
    return answer(decode_batch(plan, batch, FIRST_US, None, count - 1), 0)


def _mapping(case: Mapping[str, Any], key: str, where: str) -> Mapping[str, Any]:
    found = case.get(key) or {}
    if not isinstance(found, dict):
        raise Misuse(f"{where}`{key}` is no object")
    return found


def _payload(case: Mapping[str, Any], where: str) -> bytes:
    if ("payload_hex" in case) == ("payload_text" in case):
        raise Misuse(
            f"{where}expected one of `payload_hex` and `payload_text`, found"
            f" {'both' if 'payload_hex' in case else 'neither'}"
        )
    if "payload_hex" in case:
        return _hex(case["payload_hex"], "payload_hex", where)
    if not isinstance(case["payload_text"], str):
        raise Misuse(f"{where}`payload_text` is no text")
    return case["payload_text"].encode()


def _hex(text: Any, key: str, where: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except (TypeError, ValueError):
        raise Misuse(f"{where}`{key}` is no row of hexadecimal digits: {str(text)[:40]!r}") from None


def _now() -> int:
    return int(datetime.now(UTC).timestamp() * 1_000_000)


def cases(path: Path) -> Iterable[tuple[str, dict[str, Any]]]:
    """The cases of a file: JSON lines, or one JSON list; with words for where each stands. Raises Misuse."""
    text = read(path)
    if text.lstrip().startswith("["):
        try:
            found = json.loads(text)
        except ValueError as error:
            raise Misuse(f"{path}: {error}") from None
        numbered = [(f"{path}: case {i}: ", case) for i, case in enumerate(found, 1)]
    else:
        numbered = []
        for i, line in enumerate(text.split("\n"), 1):
            if line.strip():
                try:
                    numbered.append((f"{path}:{i}: ", json.loads(line)))
                except ValueError as error:
                    raise Misuse(f"{path}:{i}: not JSON: {error}") from None
    for where, case in numbered:
        if not isinstance(case, dict):
            raise Misuse(f"{where}a case is a JSON object")
        yield where, case


def pairs(given: Iterable[str], what: str) -> dict[str, str]:
    """`NAME=VALUE` arguments. Raises Misuse."""
    found = {}
    for text in given:
        name, sign, value = text.partition("=")
        if not sign or not name:
            raise Misuse(f'{what} is given as NAME=VALUE, found "{text}"')
        found[name] = value
    return found


def constants(plan: DecoderPlan, given: Mapping[str, str]) -> dict[str, Any]:
    """Constants from the command line, as their kinds. Raises Misuse."""
    kinds = {spec.name: spec.kind for spec in plan.constants}
    found: dict[str, Any] = {}
    for name, text in given.items():
        if name not in kinds:
            raise Misuse(f"`{plan.name}` has no constant `{name}`; it has {', '.join(kinds) or 'none'}")
        try:
            found[name] = text if kinds[name] == "text" else text == "true" if kinds[name] == "flag" else float(text)
        except ValueError:
            raise Misuse(f'the constant `{name}` is "{text}", expected a {kinds[name]}') from None
    return found


def encode(plan: DecoderPlan, command: str, given: Mapping[str, str], own: Mapping[str, Any]) -> str:
    """A command as it is printed: bytes and CBOR in hexadecimal digits, the rest as it is. Raises Misuse."""
    found = plan.command(command)
    lists = {step.name for step in found.parameters if isinstance(step, EachStep)} if found is not None else set()
    values: dict[str, Any] = dict(given)
    for name in lists & values.keys():
        try:
            values[name] = json.loads(given[name])
        except ValueError:
            raise Misuse(f"`{name}` is a list, given as JSON: {name}='[{{\"level\": 5}}]'") from None
    written = encode_command(plan, command, values, own)
    return written.decode() if found is not None and found.payload in ("json", "text") else written.hex()


def table(result: Mapping[str, Any]) -> list[str]:
    """An answer in columns for people."""
    if "error" in result:
        error = result["error"]
        where = "".join(f", {word} {error[word]}" for word in ("line", "byte") if error[word] is not None)
        return [f"refused ({error['code']}{where}): {error['message']}"]
    rows = [
        [
            r.get("device", ""),
            r["field"],
            f"missing: {r['missing']}" if "missing" in r else json.dumps(r["value"], ensure_ascii=False),
            "" if r["unit"] in (None, "1") else r["unit"],
            r["at"],
        ]
        for r in result["readings"]
    ]
    if not any(row[0] for row in rows):
        rows = [row[1:] for row in rows]
    widths = [max(len(row[k]) for row in rows) for k in range(len(rows[0]))] if rows else []
    lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]
    return lines + [f"{p['part']} refused ({p['error']}): {p['message']}" for p in result.get("refused", [])]
