"""From bytes to what a window shows: documents, lines of text, columns, frames out of a stream."""

from __future__ import annotations

import io
import re
import secrets
from collections.abc import Callable, Mapping
from datetime import datetime
from decimal import Decimal
from fractions import Fraction
from functools import partial
from math import isfinite
from typing import Any

import cbor2
import numpy as np
import orjson

from oculum.errors import OculumError

from ..language import limits
from ..language.decoders.plan import Framing
from ..language.patterns import compiled
from . import loops
from .level import Batch, Level, Window
from .numbers import PAD

GONE = object()
BEYOND_NULL = object()  # a path leads through null: absent, unless null is a mark
WRONG = object()  # a path leads through something that holds nothing
Wrong = tuple[str, str, int]  # code, what is wrong, byte
WORDS: dict[type, str] = {
    dict: "an object",
    list: "a list",
    str: "a text",
    bool: "true or false",
    int: "a number",
    float: "a number",
    type(None): "null",
    type(cbor2.undefined): "undefined",
    bytes: "bytes",
    Decimal: "a decimal fraction",
    Fraction: "a ratio",
    datetime: "a time (tag 0 or 1)",
}
FORMS: dict[type, str] = {
    dict: "map",
    list: "list",
    str: "text",
    bool: "flag",
    int: "integer",
    float: "float",
    type(None): "null",
    type(cbor2.undefined): "undefined",
    bytes: "bytes",
    Decimal: "fraction",
    Fraction: "fraction",
    datetime: "time",
}
TAGS = {0, 1, 2, 3, 4, 5, 30}  # of CBOR, which mean something: times, whole numbers, fractions


# windows ---------------------------------------------------------------------
def window_of(count: int, rows: np.ndarray, pieces: list[bytes], short: str) -> Window:
    """A window of its own bytes: `pieces` belong to `rows`; the other rows have none."""
    lengths = np.fromiter((len(p) for p in pieces), np.int64, len(pieces))
    ends = np.cumsum(lengths)
    data = np.frombuffer(b"".join(pieces) + bytes(PAD), np.uint8)
    start, end = np.zeros(count, np.int64), np.zeros(count, np.int64)
    start[rows], end[rows] = ends - lengths, ends
    window = Window("bytes", data, start, end, short)
    window.own = False
    return window


def taken(window: Window, rows: np.ndarray) -> Window:
    """The window of some rows, as rows of their own."""
    found = Window(window.kind, window.data, window.start[rows], window.end[rows], window.short)
    found.cursor = window.cursor[rows]
    chosen = rows.tolist()
    found.docs = [window.docs[i] for i in chosen] if window.docs is not None else None
    found.pending = [window.pending[i] for i in chosen] if window.pending is not None else None
    found.columns = [window.columns[i] for i in chosen] if window.columns is not None else None
    found.origin = window.origin[rows] if window.origin is not None else None
    found.own, found.separator, found.called = window.own, window.separator, window.called
    return found


# documents -------------------------------------------------------------------
class Placed(str):
    """A text that knows at which byte of its message it begins; made only where a message is traced."""

    at: int = 0


def placed(text: str, at: int) -> Placed:
    found = Placed(text)
    found.at = at
    return found


def parse_window(batch: Batch, level: Level, window: Window, source: str, rows: np.ndarray, line: int) -> np.ndarray:
    """Reads the bytes of these rows as documents or text; returns the rows that are good."""
    buffer = window.data.tobytes()
    starts, ends = window.start[rows].tolist(), window.end[rows].tolist()
    read = partial(read_cbor, tags=True) if source == "cbor" and batch.tags else READERS[source]
    docs: list[Any] = [None] * level.count if window.docs is None else window.docs
    for row, a, b in zip(rows.tolist(), starts, ends, strict=True):
        found, wrong = read(buffer[a:b])
        if wrong is not None:
            level.fail(np.array([row]), wrong[0], wrong[1], line, wrong[2])
        else:
            docs[row] = (
                placed(found, a - batch.traced_from)
                if batch.trace is not None and source == "text" and window.own
                else found
            )
    window.kind, window.docs = "text" if source == "text" else "document", docs
    return level.living(rows)


def _depth(raw: bytes) -> int:
    depth = deepest = 0
    inside = escaped = False
    for byte in raw:
        if inside:
            if escaped:
                escaped = False
            elif byte == 92:
                escaped = True
            elif byte == 34:
                inside = False
        elif byte == 34:
            inside = True
        elif byte in b"[{":
            depth += 1
            deepest = max(deepest, depth)
        elif byte in b"]}":
            depth -= 1
    return deepest


def read_json(raw: bytes) -> tuple[Any, Wrong | None]:
    if not raw.strip():
        return None, ("too short", "the payload is empty", 0)
    if raw.count(b"[") + raw.count(b"{") > limits.JSON_DEPTH and _depth(raw) > limits.JSON_DEPTH:
        return None, ("malformed", f"the document nests more than {limits.JSON_DEPTH} deep", 0)
    try:
        return orjson.loads(raw), None
    except orjson.JSONDecodeError as error:
        return None, ("malformed", f"not JSON: {error.msg}", error.pos)


def json_at_once(raws: list[bytes]) -> list[Any] | None:
    """All documents by one parse; None where one of them is wrong, or cannot be told from its neighbours.

    Between them stands a text that no sender can know: only where all of these come back in their places does each
    document begin and end where its message does.
    """
    mark = secrets.token_hex(12)
    whole = (b',"%b",' % mark.encode()).join(raws)
    try:
        found = orjson.loads(b"[%b]" % whole)
    except orjson.JSONDecodeError:
        return None
    marks = found[1::2]
    if len(found) != 2 * len(raws) - 1 or marks.count(mark) != len(marks):
        return None
    return found[::2]  # type: ignore[no-any-return]


def may_be_deep(window: Window) -> bool:
    """Whether a document has so many brackets that it may nest too deep."""
    opening, most = np.flatnonzero((window.data | 32) == 123), limits.JSON_DEPTH  # [ and {
    if len(opening) <= most:
        return False
    near = np.flatnonzero(opening[most:] - opening[:-most] < window.lengths.max(initial=0))
    if not len(near):
        return False
    document = np.searchsorted(window.end, opening, "right")
    return bool((document[near + most] == document[near]).any())


CBOR_WRONG = (cbor2.CBORDecodeError, ValueError, TypeError, OverflowError, ArithmeticError, RecursionError)


class _Tagged(OculumError, ValueError):
    pass


def _cbor_head(raw: bytes, at: int) -> tuple[int, int, int, int]:
    """Major type, additional information, argument, and where the head ends. Raises IndexError where it is cut off."""
    first = raw[at]
    major, info = first >> 5, first & 31
    if info < 24:
        return major, info, info, at + 1
    if info in (24, 25, 26, 27):
        size = 1 << (info - 24)
        if at + 1 + size > len(raw):
            raise IndexError
        return major, info, int.from_bytes(raw[at + 1 : at + 1 + size], "big"), at + 1 + size
    if info == 31 and major in (2, 3, 4, 5, 7):
        return major, info, -1, at + 1
    raise _Tagged("the bytes are not well-formed CBOR")


def _bound_number(raw: bytes, at: int) -> None:
    """Refuses a whole number of more bytes than any can use; `at` is behind its tag."""
    major, _, size, _ = _cbor_head(raw, at)
    if major == 2 and not 0 <= size <= limits.CBOR_NUMBER_BYTES:
        raise _Tagged(f"a whole number has more than {limits.CBOR_NUMBER_BYTES} bytes")


def _cbor_scan(raw: bytes) -> tuple[int, list[tuple[int, int]]]:
    """The end of the first CBOR item, and where tags stand that mean nothing here: their content counts alone.

    Bounds nesting, items and tags before anything is built. Raises IndexError where the item is cut off, _Tagged where
    it cannot be taken.
    """
    at, items = 0, 0
    over: list[tuple[int, int]] = []
    open_: list[int] = [1]  # items still to come on each level; -1: until a break
    while open_:
        if open_[-1] == 0:
            open_.pop()
            continue
        major, info, argument, after = _cbor_head(raw, at)
        items += 1
        if items > limits.CBOR_ITEMS:
            raise _Tagged(f"the document has more than {limits.CBOR_ITEMS} items")
        if major == 7 and info == 31:
            if open_[-1] >= 0:
                raise _Tagged("a break stands where none belongs")
            if open_[-1] == -3:
                raise _Tagged("a map ends between a key and its value")
            open_.pop()
            at = after
            continue
        if open_[-1] > 0:
            open_[-1] -= 1
        elif open_[-1] in (-2, -3):
            open_[-1] = -5 - open_[-1]
        elif open_[-1] == -4 and (major not in (2, 3) or info == 31):
            raise _Tagged("a piece of a text is none")
        if major == 6 and argument not in TAGS:
            over.append((at, after))
        at = after
        if major in (2, 3):
            if info == 31:
                open_.append(-4)
            else:
                if at + argument > len(raw):
                    raise IndexError
                at += argument
        elif major == 4:
            open_.append(argument)
        elif major == 5:
            open_.append(-2 if info == 31 else 2 * argument)
        elif major == 6:
            if argument in (25, 28, 29, 256):
                raise _Tagged(f"tag {argument} (a reference to another part) is not taken")
            if argument in (2, 3):
                _bound_number(raw, at)
            open_.append(1)
        elif major == 7 and info == 24 and argument < 32:
            raise _Tagged("a simple value is written too long")
        if len(open_) > limits.CBOR_DEPTH:
            raise _Tagged(f"the document nests more than {limits.CBOR_DEPTH} deep")
        if len(open_) > 1 and open_[-1] > len(raw) - at + 1:
            raise IndexError  # more items are promised than there are bytes
    return at, over


def _without(raw: bytes, over: list[tuple[int, int]]) -> bytes:
    """The bytes without these pieces."""
    begins = [0, *(end for _, end in over)]
    ends = [*(begin for begin, _ in over), len(raw)]
    return b"".join(raw[a:b] for a, b in zip(begins, ends, strict=True))


def bare(value: Any) -> Any:
    """A value of CBOR without the tags around it that mean nothing here."""
    while type(value) is cbor2.CBORTag:
        value = value.value
    return value


def _usual(value: Any) -> Any:
    """The value as one without tags would be: with lists and objects, whose keys have no tags."""
    if type(value) is cbor2.CBORTag:
        return cbor2.CBORTag(value.tag, _usual(value.value))
    if isinstance(value, Mapping):
        return {bare(key): _usual(inner) for key, inner in value.items()}
    return [_usual(inner) for inner in value] if isinstance(value, list | tuple) else value


def read_cbor(raw: bytes, tags: bool = False) -> tuple[Any, Wrong | None]:
    """The item that these bytes are. tags: values keep theirs, also those that mean nothing here."""
    if not raw:
        return None, ("too short", "the payload is empty", 0)
    try:
        end, over = _cbor_scan(raw)
    except IndexError:
        return None, ("too short", "the CBOR ends before it is complete", len(raw))
    except _Tagged as error:
        return None, ("malformed", str(error), 0)
    if end != len(raw):
        return None, (
            "malformed",
            f"{len(raw) - end} byte{'s stand' if len(raw) - end > 1 else ' stands'} behind the end of the CBOR",
            end,
        )
    try:
        if tags:
            return _usual(cbor2.CBORDecoder(io.BytesIO(raw)).decode()), None
        return cbor2.CBORDecoder(io.BytesIO(_without(raw, over) if over else raw)).decode(), None
    except CBOR_WRONG as error:
        return None, ("malformed", f"not CBOR: {str(error)[:100]}", 0)


def cbor_at_once(raws: list[bytes]) -> list[Any] | None:
    """All documents, or None where one of them is wrong or wants a closer look."""
    ends = np.cumsum([len(raw) for raw in raws])
    starts, plain = np.concatenate([[0], ends[:-1]]), np.zeros(len(raws), bool)
    left = np.zeros(limits.CBOR_DEPTH, np.int64)
    data = np.frombuffer(b"".join(raws), np.uint8)
    if loops.compiled(loops.plain_cbor)(data, starts, ends, limits.CBOR_ITEMS, left, plain) < len(raws):
        return None
    try:
        return [cbor2.loads(raw) for raw in raws]
    except CBOR_WRONG:
        return None


def read_text(raw: bytes) -> tuple[Any, Wrong | None]:
    try:
        return raw.decode(), None
    except UnicodeDecodeError as error:
        return None, ("malformed", "the text is no UTF-8", error.start)


AT_ONCE = 8  # fewer documents are parsed one by one

READERS: dict[str, Callable[[bytes], tuple[Any, Wrong | None]]] = {
    "json": read_json,
    "cbor": read_cbor,
    "text": read_text,
}
# All documents of a block, or None where one is wrong.
AT_ONCE_READERS: dict[str, Callable[[list[bytes]], list[Any] | None]] = {"json": json_at_once, "cbor": cbor_at_once}


# text ------------------------------------------------------------------------
def lines(level: Level, rows: np.ndarray) -> tuple[np.ndarray, Window]:
    """The lines of these rows that have something in them: the row each belongs to, and their bytes."""
    window = level.window
    buffer = window.data.tobytes()
    up: list[int] = []
    starts: list[int] = []
    ends: list[int] = []
    for row, a, b in zip(rows.tolist(), window.start[rows].tolist(), window.end[rows].tolist(), strict=True):
        at = a
        for piece in buffer[a:b].split(b"\n"):
            size = len(piece) - (1 if piece.endswith(b"\r") else 0)
            if size:
                up.append(row)
                starts.append(at)
                ends.append(at + size)
            at += len(piece) + 1
    own = Window("text", window.data, np.array(starts, np.int64), np.array(ends, np.int64), "too short")
    own.own = window.own
    return np.array(up, np.int64), own


def decode_lines(batch: Batch, level: Level, own: Window, up: np.ndarray, line: int) -> Window:
    buffer = own.data.tobytes()
    docs: list[Any] = []
    for row, a, b in zip(up.tolist(), own.start.tolist(), own.end.tolist(), strict=True):
        text, wrong = read_text(buffer[a:b])
        if wrong is not None and level.alive[row]:
            level.fail(np.array([row]), wrong[0], wrong[1], line)
        docs.append(placed(text or "", a - batch.traced_from) if batch.trace is not None and own.own else text or "")
    own.docs = docs
    return own


def split_columns(level: Level, rows: np.ndarray, by: str) -> None:
    window = level.window
    docs = window.docs or []
    columns: list[list[str]] = window.columns if window.columns is not None else [[] for _ in range(level.count)]
    for row in rows.tolist():
        doc = docs[row]
        columns[row] = str(doc).split(by, limits.COLUMNS)
        if isinstance(doc, Placed):
            at = doc.at
            for k, piece in enumerate(columns[row]):
                columns[row][k] = placed(piece, at)
                at += len(piece.encode()) + len(by.encode())
    window.columns, window.separator = columns, by


def column_range(level: Level, rows: np.ndarray, first: int, last: int) -> tuple[np.ndarray, list[str]]:
    """The columns from `first` to `last` (from 1, or from -1 backwards) of every row, one after the other."""
    columns = level.window.columns or []
    up: list[int] = []
    pieces: list[str] = []
    for row in rows.tolist():
        own = columns[row]
        low = first - 1 if first > 0 else max(len(own) + first, 0)
        high = last if last > 0 else len(own) + last + 1
        for piece in own[low : max(high, low)]:
            up.append(row)
            pieces.append(piece)
    return np.array(up, np.int64), pieces


def match_pattern(level: Level, rows: np.ndarray, pattern: str, line: int) -> None:
    """Holds the text of these rows against a pattern; linear in its length."""
    window = level.window
    docs = window.docs or []
    expression = compiled(pattern)
    found: list[Any] = [None] * level.count
    for row in rows.tolist():
        match = expression.search(str(docs[row]))
        if match is None:
            level.fail(np.array([row]), "malformed", "the text does not match the pattern", line)
        else:
            found[row] = match.groupdict()
            doc = docs[row]
            if isinstance(doc, Placed):
                found[row] = {
                    k: v
                    if v is None
                    else placed(v, doc.at + len(doc[: match.start(expression.groupindex[k])].encode()))
                    for k, v in found[row].items()
                }
    window.groups = found


# frames out of a stream --------------------------------------------------------
def frames(level: Level, rows: np.ndarray, framing: Framing, line: int) -> tuple[np.ndarray, Window]:
    """The frames between their marks, escapes taken out: the row each belongs to, and its bytes.

    A frame that is broken off, or escapes what needs none, comes with what is wrong with it.
    """
    window = level.window
    start, end = window.start[rows], window.end[rows]
    if framing.rest:
        start = np.minimum((window.cursor[rows] + 7) >> 3, end)
        window.cursor[rows] = end * 8
    lengths = end - start
    total = int(lengths.sum())
    owner = np.repeat(np.arange(len(rows)), lengths)
    offset = np.concatenate([[0], np.cumsum(lengths)])[:-1]
    byte = window.data[np.repeat(start - offset, lengths) + np.arange(total)]
    begins = np.flatnonzero(byte == framing.start)
    events = np.flatnonzero((byte == framing.start) | (byte == framing.end))
    following = np.searchsorted(events, begins, "right")
    at = np.where(
        following < len(events), events[np.minimum(following, max(len(events) - 1, 0))] if len(events) else 0, total
    )
    inside = at < total
    safe = np.minimum(at, max(total - 1, 0))
    whole = inside & (byte[safe] == framing.end) & (owner[safe] == owner[begins]) if len(begins) else np.zeros(0, bool)
    size = np.where(whole, at - begins - 1, 0)
    count = len(begins)
    if framing.strict:
        covered = np.bincount(owner[begins], np.where(whole, size + 2, 0), minlength=len(rows))
        stray = (covered != lengths) & (np.bincount(owner[begins[~whole]], minlength=len(rows)) == 0)
        level.fail(rows[stray], "malformed", "something stands outside of the frames", line)
    frame = np.repeat(np.arange(count), size)
    first = np.concatenate([[0], np.cumsum(size)])[:-1]
    content = byte[np.repeat(begins + 1 - first, size) + np.arange(int(size.sum()))]
    wrong_escape = np.zeros(count, bool)
    if framing.escape is not None:
        escape = content == framing.escape
        turned = np.zeros(len(content), bool)
        places = np.flatnonzero(escape)
        ends_with = (places + 1 >= len(content)) | (
            frame[np.minimum(places + 1, max(len(content) - 1, 0))] != frame[places]
        )
        wrong_escape[frame[places[ends_with]]] = True
        places = places[~ends_with]
        value = content[places + 1] ^ (framing.xor or 0)
        odd = ~np.isin(value, [framing.start, framing.end, framing.escape])
        wrong_escape[frame[places[odd]]] = True
        turned[places + 1] = True
        content = np.where(turned, content ^ (framing.xor or 0), content)[~escape]
        size = size - np.bincount(frame[escape], minlength=count)
    ends = np.cumsum(size)
    own = Window(
        "bytes", np.concatenate([content, np.zeros(PAD, np.uint8)]).astype(np.uint8), ends - size, ends, "too short"
    )
    own.own, own.called = False, "the frame"
    own.pending = [
        ("too short", "the frame has no end")
        if not fine
        else ("malformed", "an escape stands before a byte that needs none")
        if bad
        else None
        for fine, bad in zip(whole.tolist(), wrong_escape.tolist(), strict=True)
    ]
    return rows[owner[begins]] if count else np.zeros(0, np.int64), own


# SenML -------------------------------------------------------------------------
class Measured:
    """One resolved SenML record: its value with its unit and kind, and its sum."""

    __slots__ = ("kind", "sum", "unit", "value")

    def __init__(self, value: Any, kind: str, unit: str | None, total: Any) -> None:
        self.value, self.kind, self.unit, self.sum = value, kind, unit, total


_CBOR_LABELS = {
    -1: "bver",
    -2: "bn",
    -3: "bt",
    -4: "bu",
    -5: "bv",
    -6: "bs",
    0: "n",
    1: "u",
    2: "v",
    3: "vs",
    4: "vb",
    5: "s",
    6: "t",
    7: "ut",
    8: "vd",
}
_VALUES = {"v": "number", "vs": "text", "vb": "flag", "vd": "data"}
_RELATIVE = 2**28
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9:./_-]*")


def read_senml(
    raw: bytes, received_us: int, labels: str = "unknown layout"
) -> tuple[list[tuple[str, str | None, int, Measured]], Wrong | None]:
    """The records of a SenML pack (RFC 8428), resolved: full name, unit, time in microseconds, value. labels: the
    failure of a label that must not be ignored.
    """
    found: list[tuple[str, str | None, int, Measured]] = []
    if not raw.strip():
        return found, ("too short", "the payload is empty", 0)
    binary = raw[0] >= 0x80
    pack, wrong = read_cbor(raw) if binary else read_json(raw)
    if wrong is not None:
        return found, wrong
    if not isinstance(pack, list) or not all(isinstance(r, dict) for r in pack):
        return found, ("malformed", "a SenML pack is a list of records", 0)
    if binary:
        pack = [
            {_CBOR_LABELS.get(k, k) if isinstance(k, int) else k: _plain_number(v) for k, v in r.items()} for r in pack
        ]
    for record in pack:
        version = record.get("bver", 10)
        if version != 10:
            return found, ("unknown layout", f"found version {str(version)[:20]} of SenML, expected 10", 0)
        for key in record:
            if isinstance(key, str) and key.endswith("_"):
                return found, (labels, f"the record asks for `{key[:40]}` to be understood", 0)
    base: dict[str, Any] = {"bn": "", "bt": 0.0, "bu": None, "bv": 0.0, "bs": 0.0}
    for index, record in enumerate(pack, 1):
        for key in base:
            if key in record:
                base[key] = record[key]
        wrong = _kinds(base, record, index)
        if wrong is not None:
            return found, wrong
        given = [key for key in _VALUES if key in record]
        if record and all(key in base or key == "bver" for key in record):
            continue  # it says what holds for those behind it
        if len(given) != 1 and (given or "s" not in record):
            return found, ("malformed", f"record {index} has {len(given)} values, expected one", 0)
        name = base["bn"] + record.get("n", "")
        if not _NAME.fullmatch(name):
            return found, ("malformed", f'record {index} has no name that SenML allows: "{name[:40]}"', 0)
        time = base["bt"] + record.get("t", 0)
        us = round(time * 1e6) + (received_us if time < _RELATIVE else 0)
        if not abs(us) < 2**62:
            return found, ("malformed", f"the time of record {index} is out of all bounds", 0)
        unit = record.get("u", base["bu"])
        value = record[given[0]] if given else None
        if given and given[0] == "v":
            value = value + base["bv"]
        total = record["s"] + base["bs"] if "s" in record else None
        found.append((name, unit, us, Measured(value, _VALUES[given[0]] if given else "", unit, total)))
    return found, None


def _plain_number(value: Any) -> Any:
    """A decimal fraction, bigfloat or ratio as the number nearest to it; anything else as it is."""
    return float(value) if isinstance(value, Decimal | Fraction) else value


def quantity(name: str) -> str:
    """The part of a record's full name that says what is measured: what stands behind the last slash or colon."""
    return re.split(r"[/:]", name)[-1]


def _kinds(base: dict[str, Any], record: dict[str, Any], index: int) -> Wrong | None:
    wants: dict[str, tuple[type, ...]] = {
        "n": (str,),
        "u": (str,),
        "v": (int, float),
        "vs": (str,),
        "vb": (bool,),
        "vd": (str, bytes),
        "s": (int, float),
        "t": (int, float),
    }
    for key, kinds in wants.items():
        if key in record and (
            not isinstance(record[key], kinds) or (isinstance(record[key], bool) and bool not in kinds)
        ):
            return "malformed", f"`{key}` of record {index} is {WORDS.get(type(record[key]), 'something else')}", 0
    for key, kinds in {
        "bn": (str,),
        "bu": (str, type(None)),
        "bt": (int, float),
        "bv": (int, float),
        "bs": (int, float),
    }.items():
        if not isinstance(base[key], kinds) or isinstance(base[key], bool):
            return "malformed", f"`{key}` of record {index} is {WORDS.get(type(base[key]), 'something else')}", 0
    for key, number in [*base.items(), *((key, record[key]) for key in ("v", "s", "t") if key in record)]:
        if isinstance(number, int) and abs(number) >= 2**64:
            return "malformed", f"`{key}` of record {index} is beyond 64 bits", 0
        # A value may be no number, as floats can say it; what is counted from may not.
        if isinstance(number, float) and not isfinite(number) and key != "v":
            return "malformed", f"`{key}` of record {index} is no number", 0
    return None


def plain_document(source: str, raw: bytes) -> Any:
    """A document as plain JSON, for people to look at. None if it is none.

    Bytes are a text `bytes` and hexadecimal digits, numbers beyond 53 bits a text `whole` and digits; times are written
    out.
    """
    if source == "senml":
        source = "cbor" if raw[:1] and raw[0] >= 0x80 else "json"
    if source not in ("json", "cbor"):
        return None
    found, wrong = READERS[source](raw)
    return None if wrong is not None else _plain(found)


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in list(value.items())[:1000]}
    if isinstance(value, list):
        return [_plain(v) for v in value[:1000]]
    if isinstance(value, bytes):
        return f"bytes {value[:500].hex()}"
    if value is None or isinstance(value, bool | str):
        return value
    if isinstance(value, int):
        return value if abs(value) <= 2**53 else f"whole {value}"
    if isinstance(value, float):
        return value if isfinite(value) else str(value)
    return str(value)
