"""Lark's tree to ours."""

from __future__ import annotations

import re
from typing import Any

from lark import Token, Transformer, v_args

from . import tree
from .problems import Span


def span_of(meta: Any) -> Span:
    """The place of a part of the text; a part over several lines is shown by its first."""
    if getattr(meta, "line", None) is None:
        return Span(1, 1, 2)
    end = meta.end_column if meta.end_line == meta.line else meta.column + 1
    return Span(meta.line, meta.column, max(end, meta.column + 1))


def token_span(token: Token) -> Span:
    line, column = token.line or 1, token.column or 1
    return Span(line, column, column + max(len(token), 1))


def number(text: str) -> int | float:
    """The value of a number as written: hexadecimal, binary, decimal."""
    if text.lower().startswith("0x"):
        return int(text, 16)
    if text.startswith("0b"):
        return int(text, 2)
    return float(text) if any(c in text for c in ".eE") else int(text)


def number_signed(text: str) -> int | float:
    """The value of a number as written, with an optional sign before it."""
    return -number(text[1:]) if text.startswith("-") else number(text)


def unquoted(token: str) -> str:
    return re.sub(r'\\(["\\])', r"\1", token[1:-1])


def quoted(text: str) -> str:
    """`text` as a string of the language. Raises ValueError for what no string can hold."""
    if "\n" in text:
        raise ValueError("a text stands on one line")
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def whole(text: str) -> int:
    value = number_signed(str(text))
    if isinstance(value, float):
        raise ValueError(f"{text} is not a whole number")
    return value


MOST_PLACE = 2**32


def place(text: str) -> int:
    """A whole number that says where something stands or how often it comes. Raises ValueError beyond all bounds."""
    found = whole(text)
    if abs(found) > MOST_PLACE:
        raise ValueError(f"the number {str(found)[:24]} is out of all bounds: places and counts go to {MOST_PLACE}")
    return found


@v_args(meta=True)
class Build(Transformer[Token, Any]):
    """The tree of `tree.py` from a parse."""

    def source(self, m: Any, c: list[Any]) -> str:
        return " ".join(str(word) for word in c)

    order = direction = when_word = unless_word = failure = encoding = open_word = constant_kind = source
    calendar = once = least = alone = must = present = wrapping = source

    def words(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    def signed(self, m: Any, c: list[Any]) -> str:
        return ("-" if c[0] else "") + str(c[1])

    place = exponent = factor = signed

    def order_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "order", c[0]

    def counted_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "counted", place(c[0])

    def decoder(self, m: Any, c: list[Any]) -> tree.Decoder:
        options: dict[str, Any] = {}
        body = []
        for part in c[2:]:
            if isinstance(part, tuple):
                options[part[0]] = part[1]
            elif part is not None:
                body.append(part)
        return tree.Decoder(
            token_span(c[0]), str(c[0]), c[1], options.get("order"), options.get("counted"), tuple(body)
        )

    # statements
    def target(self, m: Any, c: list[Any]) -> tuple[str, Span]:
        return str(c[0]), token_span(c[0])

    def read(self, m: Any, c: list[Any]) -> tree.Read:
        address, (name, name_span), kind, unit, *rest = c
        plain, unit_span = unit if isinstance(unit, tuple) else (unit, unit.span if unit else None)
        return tree.Read(span_of(m), address, name, name_span, kind, plain, unit_span, tuple(rest))

    def read_next(self, m: Any, c: list[Any]) -> tree.Read:
        span = span_of(m)
        return self.read(m, [tree.InNext(Span(span.line, span.column, span.column + 4), None, None), *c])

    def plain_unit(self, m: Any, c: list[Any]) -> tuple[str, Span]:
        return str(c[0]), token_span(c[0])

    def unit_by(self, m: Any, c: list[Any]) -> tree.UnitBy:
        return tree.UnitBy(span_of(m), str(c[0]), tuple(c[1:]))

    def unit_arm(self, m: Any, c: list[Any]) -> tree.UnitArm:
        token = c[0]
        option: str | int = (
            whole(token) if token.type == "NUMBER" else unquoted(token) if token.type == "STRING" else str(token)[1:-1]
        )
        return tree.UnitArm(option, str(token), tuple(c[1:-1]), str(c[-1]))

    def put(self, m: Any, c: list[Any]) -> tree.Put:
        address, storage, order, words, value = c
        return tree.Put(span_of(m), address, _stored_as(storage, order, words), value)

    def put_next(self, m: Any, c: list[Any]) -> tree.Put:
        span = span_of(m)
        return self.put(m, [tree.InNext(Span(span.line, span.column, span.column + 4), None, None), *c])

    def derive(self, m: Any, c: list[Any]) -> tree.Derive:
        return tree.Derive(span_of(m), c[0][0], c[0][1], c[1], tuple(c[2:]))

    def missing_rule(self, m: Any, c: list[Any]) -> tree.MissingRule:
        return tree.MissingRule(span_of(m), unquoted(c[0]), tuple(c[1:-1]), c[-1])

    def reject(self, m: Any, c: list[Any]) -> tree.Reject:
        return tree.Reject(span_of(m), unquoted(c[0]), c[1], c[2] == "unless", c[3])

    def stamp(self, m: Any, c: list[Any]) -> tree.Stamp:
        return tree.Stamp(span_of(m), c[0])

    def device(self, m: Any, c: list[Any]) -> tree.Device:
        return tree.Device(span_of(m), c[0])

    def length(self, m: Any, c: list[Any]) -> tree.Length:
        return tree.Length(span_of(m), c[1], c[2], c[0] is not None)

    def amount_number(self, m: Any, c: list[Any]) -> int:
        return place(c[0])

    def amount_name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Name(token_span(c[0]), str(c[0]))

    def amount_expr(self, m: Any, c: list[Any]) -> tree.Expr:
        found: tree.Expr = c[0]
        return found

    def skip(self, m: Any, c: list[Any]) -> tree.Skip:
        return tree.Skip(span_of(m), c[0], len(c) > 1)

    def otherwise(self, m: Any, c: list[Any]) -> tuple[str, tuple[tree.Statement, ...]]:
        return "otherwise", tuple(c)

    def when(self, m: Any, c: list[Any]) -> tree.When:
        return tree.When(span_of(m), c[0], tuple(c[1:-1]), c[-1][1] if c[-1] else ())

    def option_number(self, m: Any, c: list[Any]) -> tree.Option:
        return tree.Option("number", c[0], c[1])

    def option_text(self, m: Any, c: list[Any]) -> tree.Option:
        return tree.Option("text", unquoted(c[0]))

    def option_code(self, m: Any, c: list[Any]) -> tree.Option:
        return tree.Option("code", str(c[0])[1:-1])

    def arm(self, m: Any, c: list[Any]) -> tree.Arm:
        options = tuple(part for part in c if isinstance(part, tree.Option))
        return tree.Arm(span_of(m), options, tuple(part for part in c if not isinstance(part, tree.Option)))

    def choose(self, m: Any, c: list[Any]) -> tree.Choose:
        return tree.Choose(span_of(m), c[0], tuple(c[1:-1]), c[-1][1] if c[-1] else ())

    def framing(self, m: Any, c: list[Any]) -> tree.Framing:
        return tree.Framing(*(None if part is None else place(part) for part in c))  # type: ignore[arg-type]

    def to_end(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("end", most=place(c[0]) if c[0] else None)

    def times(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("times", c[0], place(c[1]) if c[1] else None)

    def set_bits(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("bits", c[-1])

    def over_list(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("list", paths=tuple(c[:-2]), alone=c[-2] is not None, required=c[-1] is not None)

    def over_records(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("record", tag=place(c[0]))

    def over_lines(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("lines")

    def over_columns(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("columns", first=place(c[0]), last=place(c[1]))

    def over_frames(self, m: Any, c: list[Any]) -> tree.Count:
        return tree.Count("frames", framing=c[0])

    def each(self, m: Any, c: list[Any]) -> tuple[tree.Expr, str]:
        return c[0], c[1]

    def repeat(self, m: Any, c: list[Any]) -> tree.Repeat:
        return tree.Repeat(span_of(m), c[0], c[1], tuple(c[2:]))

    def apart(self, m: Any, c: list[Any]) -> tree.Apart:
        return tree.Apart(span_of(m), unquoted(c[0]) if c[0] else None, tuple(c[1:]))

    def region_bytes(self, m: Any, c: list[Any]) -> tree.InBytes:
        return tree.InBytes(span_of(m), c[0][0], c[0][1], None)

    def region_next(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(span_of(m), c[0], None)

    def region_next_byte(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(span_of(m), 1, None)

    def in_rest(self, m: Any, c: list[Any]) -> tree.InRest:
        return tree.InRest(span_of(m))

    region_rest = in_rest

    def region_path(self, m: Any, c: list[Any]) -> tree.InDocument:
        return tree.InDocument(span_of(m), (c[0],))

    def region_column(self, m: Any, c: list[Any]) -> tree.InColumn:
        return tree.InColumn(span_of(m), place(c[0]), None)

    def open(self, m: Any, c: list[Any]) -> tree.Open:
        region, encoding, order, *rest = c
        words = tuple(part for part in rest if isinstance(part, str))
        return tree.Open(
            span_of(m), region, encoding, order, words, tuple(part for part in rest if not isinstance(part, str))
        )

    def records(self, m: Any, c: list[Any]) -> tree.Records:
        region, tag, size, once = c
        first, last = region if region else (None, None)
        return tree.Records(span_of(m), first, last, tag, size, once is not None)

    def hand(self, m: Any, c: list[Any]) -> tree.Hand:
        return tree.Hand(span_of(m), c[0], c[1], tuple((str(name), token_span(name)) for name in c[2:]))

    def constant(self, m: Any, c: list[Any]) -> tree.Constant:
        return tree.Constant(span_of(m), str(c[0]), c[1], str(c[2]) if c[2] else None, c[3])

    def pair(self, m: Any, c: list[Any]) -> tuple[str, str]:
        return c[0], c[1]

    def table(self, m: Any, c: list[Any]) -> tree.Table:
        return tree.Table(span_of(m), str(c[0]), str(c[1]) if c[1] else None, tuple(c[2:]))

    def origin(self, m: Any, c: list[Any]) -> tree.Origin:
        return tree.Origin(span_of(m), c[0])

    def columns(self, m: Any, c: list[Any]) -> tree.Columns:
        return tree.Columns(span_of(m), unquoted(c[0]))

    def pattern(self, m: Any, c: list[Any]) -> tree.Pattern:
        return tree.Pattern(span_of(m), unquoted(c[0]))

    def command(self, m: Any, c: list[Any]) -> tree.Command:
        return tree.Command(span_of(m), str(c[0]), tuple(c[1:]))

    def frame(self, m: Any, c: list[Any]) -> tree.FrameLine:
        return tree.FrameLine(span_of(m), c[0])

    # addresses
    def bytes_at(self, m: Any, c: list[Any]) -> tuple[int, int | None]:
        return place(c[0]), place(c[1]) if len(c) > 1 else None

    def bits(self, m: Any, c: list[Any]) -> tree.Bits:
        numbers = [place(part) for part in c if part != "bits"]
        return tree.Bits(max(numbers), min(numbers), len(numbers) == 1)

    def in_bytes(self, m: Any, c: list[Any]) -> tree.InBytes:
        return tree.InBytes(span_of(m), c[0][0], c[0][1], c[1])

    def in_next(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(span_of(m), c[0], c[1])

    def in_next_byte(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(span_of(m), 1, c[0])

    def in_next_part(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(span_of(m), None, c[0])

    def in_stream(self, m: Any, c: list[Any]) -> tree.InStream:
        return tree.InStream(span_of(m))

    def in_same(self, m: Any, c: list[Any]) -> tree.InSame:
        return tree.InSame(span_of(m), c[0])

    def in_register(self, m: Any, c: list[Any]) -> tree.InRegister:
        return tree.InRegister(span_of(m), place(c[0]), place(c[1]) if c[1] else None, c[2])

    def in_coil(self, m: Any, c: list[Any]) -> tree.InCoil:
        return tree.InCoil(span_of(m), place(c[0]))

    def in_record(self, m: Any, c: list[Any]) -> tree.InRecord:
        return tree.InRecord(span_of(m), place(c[0]))

    def in_column(self, m: Any, c: list[Any]) -> tree.InColumn:
        return tree.InColumn(span_of(m), place(c[0]), place(c[1]) if c[1] else None)

    def in_group(self, m: Any, c: list[Any]) -> tree.InGroup:
        return tree.InGroup(span_of(m), str(c[0]))

    def in_header(self, m: Any, c: list[Any]) -> tree.InHeader:
        return tree.InHeader(span_of(m), str(c[0]))

    def in_topic(self, m: Any, c: list[Any]) -> tree.InTopic:
        return tree.InTopic(span_of(m), place(c[0]))

    def step_name(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    def step_text(self, m: Any, c: list[Any]) -> str:
        return unquoted(c[0])

    def step_number(self, m: Any, c: list[Any]) -> int:
        return place(("-" if c[0] else "") + str(c[1]))

    def step_list(self, m: Any, c: list[Any]) -> tree.PathStep:
        step: tree.PathStep = c[0]
        return step

    def list_index(self, m: Any, c: list[Any]) -> tree.Index:
        return tree.Index(place(c[0]))

    def list_key(self, m: Any, c: list[Any]) -> tree.Keyed:
        word = str(c[2])
        return tree.Keyed(str(c[0]), unquoted(c[2]) if c[2].type == "STRING" else number(word), word)

    def path(self, m: Any, c: list[Any]) -> tree.Path:
        return tuple(c)

    def whole(self, m: Any, c: list[Any]) -> tree.Path:
        return ()

    def in_document(self, m: Any, c: list[Any]) -> tree.InDocument:
        return tree.InDocument(span_of(m), tuple(path for path in c if path is not None))

    # kinds
    def storage(self, m: Any, c: list[Any]) -> tree.Storage:
        words = [str(part) for part in c]
        if words[0] == "unsigned":
            return tree.Storage("unsigned", low=place(words[1]), high=place(words[3]))
        return tree.Storage(" ".join(words))

    def scale(self, m: Any, c: list[Any]) -> tree.Scale:
        return tree.Scale(str(c[0]), c[1])

    def stored(self, m: Any, c: list[Any]) -> tree.Stored:
        return tree.Stored(span_of(m), _stored_as(c[0], c[1], c[2]), tuple(c[3:]))

    def flag(self, m: Any, c: list[Any]) -> tree.Flag:
        return tree.Flag(span_of(m), c[0] is not None)

    def code(self, m: Any, c: list[Any]) -> tuple[int, str]:
        return whole(c[0]), unquoted(c[1]) if c[1].type == "STRING" else str(c[1])

    def codes(self, m: Any, c: list[Any]) -> tree.Codes:
        return tree.Codes(span_of(m), _stored_as(c[0], c[1], None) if c[0] else None, tuple(c[2:-1]), c[-1])

    def other_code(self, m: Any, c: list[Any]) -> str:
        return unquoted(c[0]) if c[0].type == "STRING" else str(c[0])

    def part(self, m: Any, c: list[Any]) -> tuple[tree.Storage | None, tuple[tree.Scale, ...]]:
        if c and isinstance(c[0], tree.Storage):
            return c[0], tuple(c[1:])
        return None, tuple(c)

    def position(self, m: Any, c: list[Any]) -> tree.PositionKind:
        return tree.PositionKind(span_of(m), tuple(c))

    def clock(self, m: Any, c: list[Any]) -> tree.Clock:
        storage, order, words, unit, since, wrapping = c
        return tree.Clock(
            span_of(m), _stored_as(storage, order, words), str(unit), unquoted(since), wrapping is not None
        )

    def number_clock(self, m: Any, c: list[Any]) -> tree.Clock:
        return tree.Clock(span_of(m), None, str(c[0]), unquoted(c[1]))

    def iso_time(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "iso")

    def tagged_time(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "tagged")

    def zone_text(self, m: Any, c: list[Any]) -> tuple[str, bool]:
        return unquoted(c[0]), False

    def zone_name(self, m: Any, c: list[Any]) -> tuple[str, bool]:
        return str(c[0]), True

    def calendar_time(self, m: Any, c: list[Any]) -> tree.Calendar:
        form, text, zone, again = c
        name, is_name = zone if zone else (None, False)
        return tree.Calendar(span_of(m), form, unquoted(text), name, is_name, str(again) if again else None)

    def number(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "number", tuple(c[1:]), str(c[0]) if c[0] else None)

    def integer(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "integer", tuple(c[1:]), str(c[0]) if c[0] else None)

    def text(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "text")

    def hex(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(span_of(m), "hex")

    # qualifiers
    def within(self, m: Any, c: list[Any]) -> tree.Within:
        return tree.Within(span_of(m), c[0], c[1])

    def within_times(self, m: Any, c: list[Any]) -> tree.Within:
        return tree.Within(span_of(m), unquoted(c[0]), unquoted(c[1]), True)

    def minus_inf(self, m: Any, c: list[Any]) -> str:
        return "-inf"

    def missing(self, m: Any, c: list[Any]) -> tree.Missing:
        reason, *rest = c
        if len(rest) == 1 and isinstance(rest[0], tree.Node):
            rule: Any = rest[0]
            return tree.Missing(span_of(m), unquoted(reason), (), (), rule)
        raws: list[str | int | float] = []
        words: list[str] = []
        for part in rest:
            text = str(part)
            words.append(text)
            if isinstance(part, Token) and part.type == "STRING":
                raws.append(unquoted(text))
            elif text in ("null", "undefined", "absent", "nan", "inf", "-inf"):
                raws.append(float(text) if text.endswith(("nan", "inf")) else f"\x00{text}")
            else:
                raws.append(number_signed(text))
        return tree.Missing(span_of(m), unquoted(reason), tuple(raws), tuple(words), None)

    def converted(self, m: Any, c: list[Any]) -> tree.Into:
        return tree.Into(span_of(m), str(c[0]))

    def hidden(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(span_of(m), "hidden")

    def required(self, m: Any, c: list[Any]) -> tree.Required:
        return tree.Required(span_of(m), c[0])

    def once_word(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(span_of(m), "once")

    def padded(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(span_of(m), "padded")

    def decimal_comma(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(span_of(m), "decimal comma")

    def stamped(self, m: Any, c: list[Any]) -> tree.Stamped:
        return tree.Stamped(span_of(m), c[0])

    def default(self, m: Any, c: list[Any]) -> tree.Default:
        return tree.Default(span_of(m), c[0])

    def word_number(self, m: Any, c: list[Any]) -> tuple[str, str]:
        return unquoted(c[0]), c[1]

    def words_map(self, m: Any, c: list[Any]) -> tree.Words:
        return tree.Words(span_of(m), tuple(c))

    def after(self, m: Any, c: list[Any]) -> tree.After:
        return tree.After(span_of(m), unquoted(c[0]))

    def sized(self, m: Any, c: list[Any]) -> tree.Sized:
        return tree.Sized(span_of(m), place(c[0]))

    def literal_number(self, m: Any, c: list[Any]) -> tree.Literal:
        return tree.Literal(span_of(m), "number", c[0])

    def literal_text(self, m: Any, c: list[Any]) -> tree.Literal:
        return tree.Literal(span_of(m), "text", unquoted(c[0]))

    def literal_name(self, m: Any, c: list[Any]) -> tree.Literal:
        return tree.Literal(span_of(m), "name", str(c[0]))

    def literal_true(self, m: Any, c: list[Any]) -> tree.Literal:
        return tree.Literal(span_of(m), "truth", "true")

    def literal_false(self, m: Any, c: list[Any]) -> tree.Literal:
        return tree.Literal(span_of(m), "truth", "false")

    # expressions
    def _chain(self, m: Any, c: list[Any], sign: str) -> tree.Expr:
        found = c[0]
        for right in c[1:]:
            found = tree.Binary(span_of(m), sign, found, right)
        return found

    def either(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "or")

    def both(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "and")

    def negation(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "not", c[0])

    def comparison(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Binary(span_of(m), str(c[1]), c[0], c[2]) if c[1] else c[0]

    def membership(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Membership(span_of(m), c[0], tuple(c[1:]))

    def is_missing(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "is missing", c[0])

    def _pairs(self, m: Any, c: list[Any]) -> tree.Expr:
        found = c[0]
        for sign, right in zip(c[1::2], c[2::2], strict=True):
            found = tree.Binary(span_of(m), str(sign), found, right)
        return found

    sum = _pairs
    product = _pairs

    def minus(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(span_of(m), "-", c[1])

    def power(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Power(span_of(m), c[0], c[1]) if c[1] else c[0]

    def quantity(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Quantity(span_of(m), str(c[0]), str(c[1]) if c[1] else None, token_span(c[1]) if c[1] else None)

    def string(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.String(span_of(m), unquoted(c[0]))

    def code_text(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.CodeText(span_of(m), str(c[0])[1:-1])

    def true(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(span_of(m), True)

    def false(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(span_of(m), False)

    def setpoint(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Setpoint(span_of(m), str(c[0]))

    def payload_length(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.PayloadLength(span_of(m))

    def name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Name(span_of(m), str(c[0]))

    def call(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Call(span_of(m), str(c[0]), tuple(a for a in c[1:] if a is not None))

    def byte_range(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), place(c[1]))

    def register_range(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(span_of(m), place(c[0]), place(c[1]), True)

    def read_at(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ReadAt(span_of(m), str(c[0]), c[1], c[2][0], c[2][1], c[3])

    def read_register(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ReadAt(span_of(m), str(c[0]), c[1], place(c[2]), None, None, True)

    def choice(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Choice(span_of(m), c[0], c[1], c[2])

    # conditions
    def label(self, m: Any, c: list[Any]) -> tuple[str, str, str]:
        return str(c[0]), str(c[1]), unquoted(c[2])

    def on(self, m: Any, c: list[Any]) -> tree.On:
        return tree.On(token_span(c[0]), str(c[0]), tuple(label for label in c[1:] if label))

    def held(self, m: Any, c: list[Any]) -> tree.Held:
        return tree.Held(span_of(m), str(c[0]), str(c[1]))

    def raise_(self, m: Any, c: list[Any]) -> tree.Raise:
        rule, amount, unit, held = c
        deadband = tree.Deadband(token_span(amount), str(amount), str(unit) if unit else None) if amount else None
        return tree.Raise(span_of(m), rule, deadband, held)

    def clear(self, m: Any, c: list[Any]) -> tree.Clear:
        return tree.Clear(span_of(m), c[0], c[1])

    def say(self, m: Any, c: list[Any]) -> tree.Say:
        return tree.Say(span_of(m), unquoted(c[0]))

    def condition(self, m: Any, c: list[Any]) -> tree.Condition:
        return tree.Condition(token_span(c[0]), unquoted(c[0]), str(c[1]), tuple(c[2:]))


setattr(Build, "raise", Build.raise_)


def _stored_as(storage: tree.Storage, order: str | None, words: str | None) -> tree.Storage:
    return tree.Storage(storage.name, order, words, storage.low, storage.high)
