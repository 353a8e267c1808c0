"""Tables as answers, as they are made: CSV after RFC 4180 row by row, Arrow and Parquet batch by batch."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator, Mapping, Sequence
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


def harmless_cell(text: str) -> str:
    """A text that no program for tables takes for a formula."""
    return f"'{text}" if text[:1] in "=+-@\t\r" and text else text


COLUMNAR = {"arrow": "application/vnd.apache.arrow.stream", "parquet": "application/vnd.apache.parquet"}


class Taken:
    """What a writer of files writes to: what has come together is taken away, so that none of it is kept."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []
        self.size = 0
        self.closed = False

    def write(self, data: Any) -> int:
        part = bytes(data)
        self.parts.append(part)
        self.size += len(part)
        return len(part)

    def tell(self) -> int:
        return self.size

    def flush(self) -> None:
        pass

    def close(self) -> None:
        self.closed = True

    def writable(self) -> bool:
        return True

    def take(self) -> bytes:
        taken, self.parts = b"".join(self.parts), []
        return taken


def as_columns(
    batches: Iterable[Mapping[str, Sequence[Any]]], types: Mapping[str, str], kind: str, name: str
) -> StreamingHttpResponse:
    """batches: columns by name; types: of each column moment (µs), number, whole, large (whole, beyond 63
    bits), flag, text or pair; kind: arrow (the
    IPC stream) or parquet.
    """
    import pyarrow as pa
    import pyarrow.parquet

    known = {
        "moment": pa.timestamp("us", "UTC"),
        "number": pa.float64(),
        "whole": pa.int64(),
        "large": pa.decimal128(20, 0),  # 64 bits without a sign
        "flag": pa.bool_(),
        "text": pa.string(),
        "pair": pa.list_(pa.float64(), 2),
    }
    schema = pa.schema([(column, known[type_]) for column, type_ in types.items()])

    def parts() -> Iterator[bytes]:
        sink = Taken()
        made = pa.PythonFile(sink, "w")
        writer = pa.ipc.new_stream(made, schema) if kind == "arrow" else pa.parquet.ParquetWriter(made, schema)
        for batch in batches:
            arrays = [pa.array(batch[field.name], field.type) for field in schema]
            writer.write_batch(pa.record_batch(arrays, schema=schema))
            yield sink.take()
        writer.close()
        yield sink.take()

    answer = StreamingHttpResponse(parts(), content_type=COLUMNAR[kind])
    answer["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return answer
