"""A parsed decoder to its lines."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from lark import Token, v_args

from .. import tree
from ..build import Build, number, number_signed, place, span_of, token_span, unquoted, whole
from ..parser import unmarked
from ..problems import Span
from . import lines
from .lines import EITHER


@v_args(meta=True)
class DecoderBuild(Build):
    """The lines of a decoder from a parse."""

    source = direction = when_word = unless_word = failure = encoding = open_word = constant_kind = Build.source
    calendar = once = least = alone = must = present = wrapping = payload = all_left = strict = Build.source
    factor = Build.signed

    def order_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "order", c[0]

    def counted_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "counted", place(c[0])

    def labels_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "labels", c[0]

    def records_option(self, m: Any, c: list[Any]) -> tuple[str, Any]:
        return "records", True

    def decoder(self, m: Any, c: list[Any]) -> lines.Decoder:
        options: dict[str, Any] = {}
        body = []
        for part in c[2:]:
            if isinstance(part, tuple):
                options[part[0]] = part[1]
            elif part is not None:
                body.append(part)
        return lines.Decoder(
            token_span(c[0]),
            str(c[0]),
            c[1],
            options.get("order"),
            options.get("counted"),
            tuple(body),
            options.get("labels"),
            bool(options.get("records")),
        )

    def target(self, m: Any, c: list[Any]) -> tuple[str, Span]:
        return unmarked(str(c[0])), token_span(c[0])

    def read(self, m: Any, c: list[Any]) -> lines.Read:
        address, (name, name_span), kind, unit, *rest = c
        code, unit_span = unit if isinstance(unit, tuple) else (unit, unit.span if unit else None)
        return lines.Read(span_of(m), address, name, name_span, kind, code, unit_span, tuple(rest))

    def read_next(self, m: Any, c: list[Any]) -> lines.Read:
        span = span_of(m)
        return self.read(m, [lines.InNext(Span(span.line, span.column, span.column + 4), None, None), *c])

    def parameter(self, m: Any, c: list[Any]) -> lines.Read:
        span = span_of(m)
        return self.read(m, [lines.Nowhere(Span(span.line, span.column, span.column + 9)), *c])

    def plain_unit(self, m: Any, c: list[Any]) -> tuple[str, Span]:
        return str(c[0]), token_span(c[0])

    def unit_by(self, m: Any, c: list[Any]) -> lines.UnitBy:
        name, *arms, written, sent = c
        return lines.UnitBy(span_of(m), str(name), tuple(arms), sent is not None, written is not None)

    def unit_arm(self, m: Any, c: list[Any]) -> lines.UnitArm:
        token = c[0]
        option: str | int = (
            whole(token) if token.type == "NUMBER" else unquoted(token) if token.type == "STRING" else str(token)[1:-1]
        )
        return lines.UnitArm(option, str(token), tuple(c[1:-1]), str(c[-1]))

    def put(self, m: Any, c: list[Any]) -> lines.Put:
        address, storage, order, words, value = c
        return lines.Put(span_of(m), address, _stored_as(storage, order, words), value)

    def put_next(self, m: Any, c: list[Any]) -> lines.Put:
        span = span_of(m)
        return self.put(m, [lines.InNext(Span(span.line, span.column, span.column + 4), None, None), *c])

    def put_run(self, m: Any, c: list[Any]) -> lines.Put:
        return lines.Put(span_of(m), c[0], str(c[1]), c[2])

    def put_next_run(self, m: Any, c: list[Any]) -> lines.Put:
        span = span_of(m)
        return self.put_run(m, [lines.InNext(Span(span.line, span.column, span.column + 4), None, None), *c])

    def put_text(self, m: Any, c: list[Any]) -> lines.Put:
        return lines.Put(span_of(m), None, "text", c[1])

    def put_value(self, m: Any, c: list[Any]) -> lines.Put:
        return lines.Put(span_of(m), lines.InDocument(span_of(m), (c[0],)), None, c[1])

    def derive(self, m: Any, c: list[Any]) -> lines.Derive:
        return lines.Derive(span_of(m), c[0][0], c[0][1], c[1], tuple(c[2:]))

    def missing_rule(self, m: Any, c: list[Any]) -> lines.MissingRule:
        return lines.MissingRule(span_of(m), unquoted(c[0]), tuple(c[1:-1]), c[-1])

    def reject(self, m: Any, c: list[Any]) -> lines.Reject:
        return lines.Reject(span_of(m), unquoted(c[0]), c[1], c[2] == "unless", c[3])

    def stamp(self, m: Any, c: list[Any]) -> lines.Stamp:
        return lines.Stamp(span_of(m), c[0])

    def device(self, m: Any, c: list[Any]) -> lines.Device:
        return lines.Device(span_of(m), c[0])

    def length(self, m: Any, c: list[Any]) -> lines.Length:
        return lines.Length(span_of(m), c[1], c[2], c[0] is not None)

    def amount_number(self, m: Any, c: list[Any]) -> int:
        return place(c[0])

    def amount_name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Name(token_span(c[0]), str(c[0]))

    def amount_expr(self, m: Any, c: list[Any]) -> tree.Expr:
        found: tree.Expr = c[0]
        return found

    def skip(self, m: Any, c: list[Any]) -> lines.Skip:
        return lines.Skip(span_of(m), c[0], len(c) > 1)

    def otherwise(self, m: Any, c: list[Any]) -> tuple[str, tuple[lines.Statement, ...]]:
        return "otherwise", tuple(c)

    def when(self, m: Any, c: list[Any]) -> lines.When:
        return lines.When(span_of(m), c[0], tuple(c[1:-1]), c[-1][1] if c[-1] else ())

    def option_number(self, m: Any, c: list[Any]) -> lines.Option:
        return lines.Option("number", c[0], c[1])

    def option_text(self, m: Any, c: list[Any]) -> lines.Option:
        return lines.Option("text", unquoted(c[0]))

    def option_code(self, m: Any, c: list[Any]) -> lines.Option:
        return lines.Option("code", str(c[0])[1:-1])

    def arm(self, m: Any, c: list[Any]) -> lines.Arm:
        options = tuple(part for part in c if isinstance(part, lines.Option))
        return lines.Arm(span_of(m), options, tuple(part for part in c if not isinstance(part, lines.Option)))

    def choose(self, m: Any, c: list[Any]) -> lines.Choose:
        return lines.Choose(span_of(m), c[0], tuple(c[1:-1]), c[-1][1] if c[-1] else ())

    def framing(self, m: Any, c: list[Any]) -> lines.Framing:
        return lines.Framing(*(None if part is None else place(part) for part in c))  # type: ignore[arg-type]

    def to_end(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("end", most=place(c[0]) if c[0] else None)

    def times(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("times", c[0], place(c[1]) if c[1] else None)

    def set_bits(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("bits", c[-1])

    def over_list(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("list", paths=tuple(c[:-2]), alone=c[-2] is not None, required=c[-1] is not None)

    def over_records(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("record", tag=place(c[0]))

    def over_lines(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("lines")

    def over_columns(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("columns", first=place(c[0]), last=place(c[1]))

    def over_frames(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("frames", framing=replace(c[1], rest=c[0] is not None, strict=c[2] is not None))

    def over_parameter(self, m: Any, c: list[Any]) -> lines.Count:
        return lines.Count("parameter", name=str(c[0]), first=place(c[1]), last=place(c[2]))

    def over_parameter_at(self, m: Any, c: list[Any]) -> lines.Count:
        return replace(self.over_parameter(m, c[1:]), paths=(c[0],))

    def each(self, m: Any, c: list[Any]) -> tuple[tree.Expr, str]:
        return c[0], c[1]

    def repeat(self, m: Any, c: list[Any]) -> lines.Repeat:
        return lines.Repeat(span_of(m), c[0], c[1], tuple(c[2:]))

    def apart(self, m: Any, c: list[Any]) -> lines.Apart:
        return lines.Apart(span_of(m), unquoted(c[0]) if c[0] else None, tuple(c[1:]))

    def region_bytes(self, m: Any, c: list[Any]) -> lines.InBytes:
        return lines.InBytes(span_of(m), c[0][0], c[0][1], None)

    def region_next(self, m: Any, c: list[Any]) -> lines.InNext:
        return lines.InNext(span_of(m), c[0], None)

    def region_next_byte(self, m: Any, c: list[Any]) -> lines.InNext:
        return lines.InNext(span_of(m), 1, None)

    def in_rest(self, m: Any, c: list[Any]) -> lines.InRest:
        return lines.InRest(span_of(m))

    region_rest = in_rest

    def region_path(self, m: Any, c: list[Any]) -> lines.InDocument:
        return lines.InDocument(span_of(m), (c[0],))

    def region_column(self, m: Any, c: list[Any]) -> lines.InColumn:
        return lines.InColumn(span_of(m), place(c[0]), None)

    def open(self, m: Any, c: list[Any]) -> lines.Open:
        region, encoding, order, *rest = c
        words = tuple(part for part in rest if isinstance(part, str))
        return lines.Open(
            span_of(m), region, encoding, order, words, tuple(part for part in rest if not isinstance(part, str))
        )

    def records(self, m: Any, c: list[Any]) -> lines.Records:
        region, tag, size, filler, once = c
        first, last = region if region else (None, None)
        filled = None if filler is None else place(filler)
        return lines.Records(span_of(m), first, last, tag, size, filled, once is not None)

    def hand(self, m: Any, c: list[Any]) -> lines.Hand:
        return lines.Hand(span_of(m), c[0], c[1], tuple((str(name), token_span(name)) for name in c[2:]))

    def constant(self, m: Any, c: list[Any]) -> lines.Constant:
        return lines.Constant(span_of(m), str(c[0]), c[1], str(c[2]) if c[2] else None, c[3])

    def pair(self, m: Any, c: list[Any]) -> tuple[str, str, int]:
        return c[0], c[1], m.line

    def table(self, m: Any, c: list[Any]) -> lines.Table:
        at = (m.line, *(line for *_, line in c[2:]))
        return lines.Table(span_of(m), str(c[0]), str(c[1]) if c[1] else None, tuple((x, y) for x, y, _ in c[2:]), at)

    def origin(self, m: Any, c: list[Any]) -> lines.Origin:
        return lines.Origin(span_of(m), c[0])

    def columns(self, m: Any, c: list[Any]) -> lines.Columns:
        return lines.Columns(span_of(m), unquoted(c[0]))

    def pattern(self, m: Any, c: list[Any]) -> lines.Pattern:
        return lines.Pattern(span_of(m), unquoted(c[0]))

    def command(self, m: Any, c: list[Any]) -> lines.Command:
        return lines.Command(span_of(m), str(c[0]), c[1], tuple(c[2:]))

    def frame(self, m: Any, c: list[Any]) -> lines.FrameLine:
        return lines.FrameLine(span_of(m), c[0])

    def in_bytes(self, m: Any, c: list[Any]) -> lines.InBytes:
        return lines.InBytes(span_of(m), c[0][0], c[0][1], c[1])

    def in_next(self, m: Any, c: list[Any]) -> lines.InNext:
        return lines.InNext(span_of(m), c[0], c[1])

    def in_next_byte(self, m: Any, c: list[Any]) -> lines.InNext:
        return lines.InNext(span_of(m), 1, c[0])

    def in_next_part(self, m: Any, c: list[Any]) -> lines.InNext:
        return lines.InNext(span_of(m), None, c[0])

    def in_stream(self, m: Any, c: list[Any]) -> lines.InStream:
        return lines.InStream(span_of(m))

    def in_same(self, m: Any, c: list[Any]) -> lines.InSame:
        return lines.InSame(span_of(m), c[0])

    def in_register(self, m: Any, c: list[Any]) -> lines.InRegister:
        return lines.InRegister(span_of(m), place(c[0]), place(c[1]) if c[1] else None, c[2])

    def in_coil(self, m: Any, c: list[Any]) -> lines.InCoil:
        return lines.InCoil(span_of(m), place(c[0]))

    def in_record(self, m: Any, c: list[Any]) -> lines.InRecord:
        return lines.InRecord(span_of(m), place(c[0]))

    def in_column(self, m: Any, c: list[Any]) -> lines.InColumn:
        return lines.InColumn(span_of(m), place(c[0]), place(c[1]) if c[1] else None)

    def in_group(self, m: Any, c: list[Any]) -> lines.InGroup:
        return lines.InGroup(span_of(m), str(c[0]))

    def in_header(self, m: Any, c: list[Any]) -> lines.InHeader:
        return lines.InHeader(span_of(m), str(c[0]))

    def in_topic(self, m: Any, c: list[Any]) -> lines.InTopic:
        return lines.InTopic(span_of(m), place(c[0]))

    def step_name(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    def step_text(self, m: Any, c: list[Any]) -> str:
        return unquoted(c[0])

    def step_number(self, m: Any, c: list[Any]) -> int:
        return place(("-" if c[0] else "") + str(c[1]))

    def step_list(self, m: Any, c: list[Any]) -> lines.PathStep:
        step: lines.PathStep = c[0]
        return step

    def list_index(self, m: Any, c: list[Any]) -> lines.Index:
        return lines.Index(place(c[0]))

    def list_key(self, m: Any, c: list[Any]) -> lines.Keyed:
        word = str(c[2])
        return lines.Keyed(str(c[0]), unquoted(c[2]) if c[2].type == "STRING" else number(word), word)

    def path(self, m: Any, c: list[Any]) -> lines.Path:
        return tuple(c)

    def whole(self, m: Any, c: list[Any]) -> lines.Path:
        return ()

    def in_document(self, m: Any, c: list[Any]) -> lines.InDocument:
        return lines.InDocument(span_of(m), tuple(path for path in c if path is not None))

    def storage(self, m: Any, c: list[Any]) -> lines.Storage:
        words = [str(part) for part in c]
        if words[0] == "unsigned":
            return lines.Storage("unsigned", low=place(words[1]), high=place(words[3]))
        return lines.Storage(" ".join(words))

    def scale(self, m: Any, c: list[Any]) -> lines.Scale:
        return lines.Scale(str(c[0]), c[1])

    def stored(self, m: Any, c: list[Any]) -> lines.Stored:
        return lines.Stored(span_of(m), _stored_as(c[0], c[1], c[2]), tuple(c[3:]))

    def flag(self, m: Any, c: list[Any]) -> lines.Flag:
        return lines.Flag(span_of(m), str(c[0]) == "present", str(c[0]) == "inverted")

    def flag_way(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    def code(self, m: Any, c: list[Any]) -> tuple[int, int, str, int]:
        text = unquoted(c[2]) if c[2].type == "STRING" else str(c[2])
        return whole(c[0]), whole(c[1] or c[0]), text, m.line

    def codes(self, m: Any, c: list[Any]) -> lines.Codes:
        *entries, other = c[2:]
        at = (m.line, *(line for *_, line in entries), *([other[1]] if other else []))
        return lines.Codes(
            span_of(m),
            _stored_as(c[0], c[1], None) if c[0] else None,
            tuple((low, text) for low, _, text, _ in entries),
            other[0] if other else None,
            at,
            tuple(high for _, high, _, _ in entries) if any(low != high for low, high, *_ in entries) else (),
        )

    def other_code(self, m: Any, c: list[Any]) -> tuple[str, int]:
        return unquoted(c[0]) if c[0].type == "STRING" else str(c[0]), m.line

    def part(self, m: Any, c: list[Any]) -> tuple[lines.Storage | None, tuple[lines.Scale, ...]]:
        if c and isinstance(c[0], lines.Storage):
            return c[0], tuple(c[1:])
        return None, tuple(c)

    def position(self, m: Any, c: list[Any]) -> lines.PositionKind:
        return lines.PositionKind(span_of(m), tuple(c))

    def clock(self, m: Any, c: list[Any]) -> lines.Clock:
        storage, order, words, unit, since, wrapping = c
        return lines.Clock(
            span_of(m), _stored_as(storage, order, words), str(unit), unquoted(since), wrapping is not None
        )

    def number_clock(self, m: Any, c: list[Any]) -> lines.Clock:
        return lines.Clock(span_of(m), None, str(c[0]), unquoted(c[1]))

    def iso_time(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "iso")

    def tagged_time(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "tagged")

    def form_word(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "form")

    def tag_number(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "tag")

    def zone_text(self, m: Any, c: list[Any]) -> tuple[str, bool]:
        return unquoted(c[0]), False

    def zone_name(self, m: Any, c: list[Any]) -> tuple[str, bool]:
        return str(c[0]), True

    def calendar_time(self, m: Any, c: list[Any]) -> lines.Calendar:
        form, text, century, zone, again = c
        name, is_name = zone if zone else (None, False)
        first = None if century is None else place(century)
        return lines.Calendar(span_of(m), form, unquoted(text), first, name, is_name, str(again) if again else None)

    def number(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "number", tuple(c[1:]), str(c[0]) if c[0] else None)

    def number_or(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "number", tuple(c[1:]), EITHER)

    def integer_or(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "integer", tuple(c[1:]), EITHER)

    def integer(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "integer", tuple(c[1:]), str(c[0]) if c[0] else None)

    def text(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "text")

    def hex(self, m: Any, c: list[Any]) -> lines.Plain:
        return lines.Plain(span_of(m), "hex")

    def within(self, m: Any, c: list[Any]) -> lines.Within:
        return lines.Within(span_of(m), c[0], c[1])

    def within_times(self, m: Any, c: list[Any]) -> lines.Within:
        return lines.Within(span_of(m), unquoted(c[0]), unquoted(c[1]), True)

    def minus_inf(self, m: Any, c: list[Any]) -> str:
        return "-inf"

    def left_out(self, m: Any, c: list[Any]) -> lines.Missing:
        return replace(self.missing(m, ['""', *c]), fate="left out")

    def refused_value(self, m: Any, c: list[Any]) -> lines.Missing:
        return replace(self.missing(m, ['""', *c[1:]]), fate="refused", failure=c[0])

    def missing(self, m: Any, c: list[Any]) -> lines.Missing:
        reason, *rest = c
        if len(rest) == 1 and isinstance(rest[0], tree.Node):
            rule: Any = rest[0]
            return lines.Missing(span_of(m), unquoted(reason), (), (), rule)
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
        return lines.Missing(span_of(m), unquoted(reason), tuple(raws), tuple(words), None)

    def converted(self, m: Any, c: list[Any]) -> lines.Into:
        return lines.Into(span_of(m), str(c[0]))

    def hidden(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "hidden")

    def difference(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "difference")

    def nearest_word(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "nearest")

    def required(self, m: Any, c: list[Any]) -> lines.Required:
        return lines.Required(span_of(m), c[0])

    def once_word(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "once")

    def padded(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "padded")

    def decimal_comma(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), f"decimal comma {c[0]}" if c[0] else "decimal comma")

    def comma_way(self, m: Any, c: list[Any]) -> str:
        return " ".join(map(str, c))

    def stamped(self, m: Any, c: list[Any]) -> lines.Stamped:
        return lines.Stamped(span_of(m), c[0])

    def default(self, m: Any, c: list[Any]) -> lines.Default:
        return lines.Default(span_of(m), c[0])

    def word_number(self, m: Any, c: list[Any]) -> tuple[str, str]:
        return unquoted(c[0]), c[1]

    def words_map(self, m: Any, c: list[Any]) -> lines.Words:
        return lines.Words(span_of(m), tuple(c))

    def after(self, m: Any, c: list[Any]) -> lines.After:
        return lines.After(span_of(m), unquoted(c[0]))

    def sized(self, m: Any, c: list[Any]) -> lines.Sized:
        return lines.Sized(span_of(m), place(c[0]), place(c[1]) if c[1] else None)

    def optional(self, m: Any, c: list[Any]) -> lines.Word:
        return lines.Word(span_of(m), "optional")

    def one_of(self, m: Any, c: list[Any]) -> lines.OneOf:
        return lines.OneOf(span_of(m), tuple(unquoted(text) for text in c))

    def literal_number(self, m: Any, c: list[Any]) -> lines.Literal:
        return lines.Literal(span_of(m), "number", c[0])

    def literal_text(self, m: Any, c: list[Any]) -> lines.Literal:
        return lines.Literal(span_of(m), "text", unquoted(c[0]))

    def literal_name(self, m: Any, c: list[Any]) -> lines.Literal:
        return lines.Literal(span_of(m), "name", str(c[0]))

    def literal_true(self, m: Any, c: list[Any]) -> lines.Literal:
        return lines.Literal(span_of(m), "truth", "true")

    def literal_false(self, m: Any, c: list[Any]) -> lines.Literal:
        return lines.Literal(span_of(m), "truth", "false")


def _stored_as(storage: lines.Storage, order: str | None, words: str | None) -> lines.Storage:
    return lines.Storage(storage.name, order, words, storage.low, storage.high)
