"""Tables as answers: CSV after RFC 4180, row by row as they are made."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Sequence
from typing import Any

from django.http import StreamingHttpResponse


class Line:
    """What a writer of CSV writes to: each row comes back as a text."""

    def write(self, row: str) -> str:
        return row


def as_csv(rows: Iterable[Sequence[Any]], name: str) -> StreamingHttpResponse:
    """name: of the file."""
    writer = csv.writer(Line())
    answer = StreamingHttpResponse((writer.writerow(row) for row in rows), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


def plain(text: str) -> str:
    """A text that no program for tables takes for a formula."""
    return f"'{text}" if text[:1] in "=+-@\t\r" and text else text
