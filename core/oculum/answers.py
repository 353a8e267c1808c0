"""Decoded messages as plain values, in the words of the documents: readings, refusals, parts."""

from __future__ import annotations

from typing import Any

import numpy as np

from .batches import FIRST_REASON, PRESENT, Column, Decoded, Failure
from .clocks import iso
from .language.fields import FieldSpec


def told(spec: FieldSpec, column: Column, i: int) -> Any:
    """The value in row i: number, truth value, text, time, or [latitude, longitude]; None where it is missing."""
    if column.state[i] != PRESENT:
        return None
    value = column.values[i]
    match spec.kind:
        case "flag":
            return bool(value)
        case "code":
            return dict(spec.codes)[int(value)]
        case "text":
            return str(value)
        case "time":
            return iso(int(value))
        case "position":
            return [short(float(v)) for v in value]
    return int(value) if spec.wide else short(float(value))


def short(value: float) -> float | int:
    """A number to 15 significant digits; whole ones without a point."""
    if value.is_integer() and abs(value) < 2**53:
        return int(value)
    rounded = float(f"{value:.15g}")
    return int(rounded) if rounded.is_integer() and abs(rounded) < 2**53 else rounded


def readings(decoded: Decoded, row: int) -> list[dict[str, Any]]:
    """The readings of one message: field, value, unit, at, and where it is so device and missing."""
    found: list[dict[str, Any]] = []
    for group in decoded.groups:
        for i in np.flatnonzero(group.rows == row).tolist():
            for spec in group.fields:
                column = group.columns[spec.name]
                state = int(column.state[i])
                if state == 0:
                    continue
                answer: dict[str, Any] = {
                    "field": spec.name,
                    "value": told(spec, column, i),
                    "unit": spec.unit,
                    "at": iso(int(group.at[i])),
                }
                if group.device is not None and group.device[i] is not None:
                    answer["device"] = group.device[i]
                if state >= FIRST_REASON:
                    answer["missing"] = decoded.reasons[state - FIRST_REASON]
                found.append(answer)
    return found


def refusal(failure: Failure, byte: int) -> dict[str, Any]:
    return {
        "code": failure.code,
        "message": failure.message,
        "line": failure.line or None,
        "byte": byte if byte >= 0 else None,
    }


def answer(decoded: Decoded, row: int) -> dict[str, Any]:
    """One message: `readings`, with `refused` where parts of it were; or `error`."""
    if decoded.failure[row] >= 0:
        return {"error": refusal(decoded.failures[decoded.failure[row]], int(decoded.byte[row]))}
    found: dict[str, Any] = {"readings": readings(decoded, row)}
    parts = [part for part in decoded.parts if part.row == row]
    if parts:
        found["refused"] = [
            {
                "part": p.name,
                **({"device": p.device} if p.device else {}),
                "error": p.failure.code,
                "message": p.failure.message,
                "line": p.failure.line,
            }
            for p in parts
        ]
    return found


def close(found: Any, wanted: Any) -> bool:
    """Equal, or as near as two ways of calculating the same come: 1e-11 of the magnitude, or 1e-12."""
    plain_number = (int, float)
    if (
        isinstance(found, bool)
        or isinstance(wanted, bool)
        or not isinstance(found, plain_number)
        or not isinstance(wanted, plain_number)
    ):
        return bool(found == wanted)
    return abs(found - wanted) <= max(1e-12, 1e-11 * abs(wanted))


def _named(reading: dict[str, Any]) -> str:
    return f"{reading['device']} {reading['field']}" if reading.get("device") else str(reading["field"])


def differences(found: dict[str, Any], expect: dict[str, Any]) -> list[str]:
    """What an answer has otherwise than expected, in words; nothing if it is as expected.

    `expect` has `error` (a code) or `readings`, of which those that stand there are compared, and none
    may be missing or come on top.
    """
    if "error" in expect:
        code = expect["error"]["code"] if isinstance(expect["error"], dict) else expect["error"]
        if "error" not in found:
            return [f"expected to be refused as {code}, found {len(found['readings'])} readings"]
        return (
            []
            if found["error"]["code"] == code
            else [f"expected to be refused as {code}, found {found['error']['code']}: {found['error']['message']}"]
        )
    if "error" in found:
        return [f"expected readings, found it refused as {found['error']['code']}: {found['error']['message']}"]
    mine: dict[tuple[str, str], dict[str, Any]] = {(_named(r), r["at"]): r for r in found["readings"]}
    theirs: dict[tuple[str, str], dict[str, Any]] = {(_named(r), r["at"]): r for r in expect.get("readings", [])}
    told = [f"{name} at {at} is expected and not there" for name, at in theirs if (name, at) not in mine]
    told += [f"{name} at {at} is there and not expected" for name, at in mine if (name, at) not in theirs]
    for key, wanted in theirs.items():
        got = mine.get(key)
        if got is None:
            continue
        if (
            wanted.get("missing") != got.get("missing")
            or not close(got["value"], wanted.get("value"))
            or ("unit" in wanted and wanted["unit"] != got["unit"])
        ):
            told.append(f"{key[0]}: expected {_said(wanted)}, found {_said(got)}")
    return told


def _said(reading: dict[str, Any]) -> str:
    if reading.get("missing"):
        return f"missing ({reading['missing']})"
    unit = reading.get("unit")
    return f"{reading.get('value')}{f' {unit}' if unit not in (None, '1') else ''}"
