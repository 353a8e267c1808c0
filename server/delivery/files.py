"""Readings written into files on this machine: lines of JSON, or CSV, a new file where one is full."""

from __future__ import annotations

import csv
import io
import json
import os
import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from django.conf import settings as django
from django.utils import timezone

from server.delivery.outlets import ANSWER_BYTES, Message, Sent

HEAD = ["id", "device", "site", "at", "received_at", "route", "field", "value", "unit", "marks"]


def folder_of(name: str) -> Path:
    """Where the files of an outlet are."""
    return django.INSTANCE.folder / "outlets" / re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")


def write(settings: Mapping[str, Any], secret: str, to: str, message: Message, allowed: Collection[str]) -> Sent:
    """Adds a batch to the newest file, or begins one; at most as many files as are kept. Raises OSError.

    A batch that was written and not taken note of, because the process was killed, comes once more: its lines carry
    the same numbers.
    """
    folder, kind = folder_of(settings["folder"]), settings["format"]
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    files = sorted(folder.glob(f"readings-*.{kind}"))
    text = lines_of(kind, message.events)
    if not files or files[-1].stat().st_size + len(text.encode()) > settings["rotate_mb"] * 1_000_000:
        files.append(folder / f"readings-{timezone.now():%Y%m%dT%H%M%S%f}Z.{kind}")
        if kind == "csv":
            text = ",".join(HEAD) + "\n" + text
    with files[-1].open("a", encoding="utf-8") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    for old in files[: -settings["keep"]]:
        old.unlink(missing_ok=True)
    return Sent(text[:ANSWER_BYTES], f"in {files[-1].name}")


def lines_of(kind: str, events: Sequence[Mapping[str, Any]]) -> str:
    """Readings as text: an object a line, or a row for each value."""
    if kind == "jsonl":
        return "".join(json.dumps({"id": e["id"], **e["data"]}, ensure_ascii=False) + "\n" for e in events)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for event in events:
        data = event["data"]
        marks = ";".join(f"{name}={text}" for name, text in (data.get("marks") or {}).items())
        for field, value in (data.get("values") or {}).items():
            about = [event["id"], *(data.get(name) for name in HEAD[1:6])]
            writer.writerow([_safe(cell) for cell in (*about, field, value["value"], value["unit"], marks)])
    return out.getvalue()


def _safe(cell: Any) -> str:
    """A cell that no spreadsheet takes for a formula."""
    text = "" if cell is None else str(cell)
    return f"'{text}" if text[:1] in ("=", "@") or (text[:1] in ("+", "-") and not _number(text)) else text


def _number(text: str) -> bool:
    return re.fullmatch(r"[+-]?\d+(\.\d+)?([eE][+-]?\d+)?", text) is not None
