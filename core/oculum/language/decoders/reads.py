"""Checking the lines that give fields: addresses, kinds, units, marks."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from fractions import Fraction

from ...clocks import known_zone, pattern_parts, pattern_problem
from ...quantities import Unit, between, describe, parse_unit, same_scale
from .. import limits
from ..checking import KELVIN, PLAIN, SECOND, TRUTH, Checker, is_late, shown, type_of
from ..expressions import Type
from ..fields import FieldKind, FieldSpec
from ..problems import Span, meant
from ..stored import Place, Raw
from . import lines
from .places import DYNAMIC, raw_of, split
from .plan import (
    NO_CLEANING,
    At,
    Cleaning,
    Extent,
    Linear,
    ReadStep,
    Sentinel,
    SpanStep,
    Step,
    TextForm,
    UnitChoice,
    ValueStep,
    Zoned,
)
from .scope import DecoderScope
from .tables import Table, joined

LARGEST = 2**62
PLAIN_LINEAR = Linear(1, 0, 1)
COMMAS = ("decimal comma", "decimal comma or point", "decimal comma grouped")
Placing = Callable[..., Raw]  # a storage, and the address if it is another than the line's: where the bytes are
DOCUMENTS = ("json", "cbor", "senml")
STORED = ("bytes", "registers", "coils")
PARAMETER_CLAUSES = "`within`, `one of`, `size`, `default`, `optional`, `into`, `nearest` and `padded`"


@dataclass
class Frame:
    """What is known at one point of the text."""

    scope: DecoderScope
    group: dict[str, FieldSpec]  # fields of this level
    last: Raw | None = None
    maybe: set[str] = field(default_factory=set)  # names that stand in one arm only
    conditional: bool = False
    columns: bool = False
    groups: tuple[str, ...] = ()
    records: bool = False
    used: dict[int, tuple[int, str]] | None = None  # byte to the bits read, and by which line; None where bytes move
    level: int = 0


@dataclass(frozen=True)
class Number:
    """What a line reads from bytes at a place, and the field that comes of it, before it is cleaned."""

    raws: tuple[Raw, ...]
    spec: FieldSpec
    linears: tuple[Linear, ...] = (PLAIN_LINEAR,)
    clock: tuple[float, int, bool] | None = None
    calendar: Zoned | None = None


def linear_of(checker: Checker, scales: tuple[lines.Scale, ...], span: Span) -> Linear:
    """The scale of a line as whole numbers. Raises Halt after recording a problem."""
    a, b = Fraction(1), Fraction(0)
    for scale in scales:
        value = checker.fraction(scale.number, span)
        if scale.sign == "*":
            a, b = a * value, b * value
        elif scale.sign == "/":
            if value == 0:
                checker.halt("a scale cannot divide by 0", span)
            a, b = a / value, b / value
        else:
            b = b + value if scale.sign == "+" else b - value
    if a == 0:
        checker.halt("a scale of 0 loses the value", span)
    c = math.lcm(a.denominator, b.denominator)
    found = Linear(int(a * c), int(b * c), c)
    if max(abs(found.a), abs(found.b), found.c) > LARGEST:
        checker.halt("the scale has too many digits", span)
    return found


def epoch_us(text: str, checker: Checker, span: Span) -> int:
    """Microseconds since 1970 of a date or moment in UTC. Raises Halt after recording a problem."""
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        checker.halt(f'"{text}" is no date: write it as "2000-01-01" or "2000-01-01T00:00:00Z"', span)
    moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment
    return round(
        (moment - datetime(1970, 1, 1, tzinfo=UTC)) / (datetime(1970, 1, 1, 0, 0, 0, 1) - datetime(1970, 1, 1))
    )


def disagreement(name: str, earlier: Type, found: Type) -> str:
    """What is wrong where two lines of one name give other things; empty where they agree."""
    if (earlier.kind, earlier.unit and earlier.unit.code) != (found.kind, found.unit and found.unit.code):
        unit = earlier.unit.code if earlier.unit else "no unit"
        how = "give this one another name"
        if earlier.unit and found.unit and earlier.unit.dimension == found.unit.dimension:
            how = f"write `into {unit}` behind it, or " + how
        return f"`{name}` is {earlier.kind} in {unit} above: two lines of one name must agree; {how}"
    if earlier.difference != found.difference:
        return f"`{name}` is a temperature in one line and a difference of temperatures in another: they must agree"
    return ""


def compatible(declared: str, found: str) -> bool:
    """Whether a field declared as one kind may be given as another."""
    return declared == found or {declared, found} <= {"number", "integer"}


class Reads:
    """The part of a decoder's check that concerns lines with a field."""

    check: Checker
    declared: Mapping[str, FieldSpec]
    spans: dict[str, Span]
    in_command: bool = False
    untold: dict[str, tuple[str, Span]]  # codes with numbers that have no text
    tables: dict[str, Table]  # codes of all lines of a name
    wides: dict[str, tuple[bool, bool]]  # by name: whether a line keeps all digits, whether all lines are whole

    # names -----------------------------------------------------------------
    def name_free(self, node: lines.Read | lines.Derive, frame: Frame) -> None:
        name = node.name
        if name in lines.OWN_NAMES:
            self.check.halt(f"`{name}` has a meaning of its own in decoders: choose another name", node.name_span)
        if name in frame.scope.names and name not in frame.maybe:
            where = f"line {self.spans[name].line}" if name in self.spans else "a line above"
            self.check.halt(f"`{name}` stands already in {where}", node.name_span)
        for part in name.split("{")[1:]:
            used = part.split("}")[0]
            if used == "index":
                if not frame.scope.in_repeat:
                    self.check.halt("`{index}` in a name counts repeats; this line stands in none", node.name_span)
            elif used not in frame.scope.names:
                self.check.halt(
                    f"`{used}` in `{name}` is no value read above{meant(used, frame.scope.names)}", node.name_span
                )
            elif frame.scope.names[used].kind not in ("number", "text", "code"):
                self.check.halt(f"a name is made from numbers and texts; `{used}` is neither", node.name_span)
            elif name.startswith(f"{{{used}}}") and frame.scope.names[used].kind == "number":
                self.check.halt(f"a name begins with a letter, and `{used}` is a number", node.name_span)
        self.spans.setdefault(name, node.name_span)

    def emit(
        self,
        name: str,
        span: Span,
        spec: FieldSpec,
        frame: Frame,
        hidden: bool,
        late: bool = False,
        derived: bool = False,
    ) -> None:
        earlier = frame.scope.names.get(name)
        found = type_of(spec)
        if earlier is not None and (wrong := disagreement(name, earlier, found)):
            self.check.halt(wrong, span)
        if found.kind == "number" and not self.in_command:
            wide, whole = self.wides.get(name, (found.wide, found.whole))
            self.wides[name] = wide, whole = wide or found.wide, whole and found.whole
            if wide and not whole:
                self.wides[name] = False, True
                self.check.refuse(
                    f"`{name}` is a whole number of more than 53 bits in one line, and none in another: two lines of"
                    " one name must agree",
                    span,
                )
            found = replace(found, wide=wide and whole)
        if spec.kind == "code" and not self.in_command:
            known = self.tables.get(name, joined((), spec.codes))
            if derived and dict(known) != dict(spec.codes):
                self.check.halt(
                    f"`{name}` has other texts in another line: a code that is computed takes another name", span
                )
            self.tables[name] = joined(known, spec.codes)
            found = replace(found, codes=self.tables[name])
        if not hidden:
            frame.group[name] = spec
            if len(frame.group) > limits.FIELDS:
                self.check.halt(f"a decoder gives at most {limits.FIELDS} fields", span)
        frame.scope.names[name] = frame.scope.seen[name] = found
        if late:
            frame.scope.late.add(name)
        if frame.conditional:
            frame.maybe.add(name)

    # qualifiers --------------------------------------------------------------
    def cleaning(
        self, node: lines.Read | lines.Derive, spec: FieldSpec, unit: Unit | None, frame: Frame, raws: tuple[Raw, ...]
    ) -> tuple[Cleaning, FieldSpec]:
        check = self.check
        sentinels: list[Sentinel] = []
        low = high = None
        into: lines.Into | None = None
        stamped = None
        hidden = has(node, "hidden")
        numeric = spec.kind in ("number", "integer")
        for q in node.qualifiers:
            match q:
                case lines.Within(times=True):
                    if spec.kind != "time":
                        check.halt("a range between moments is for times", q.span)
                    low, high = float(epoch_us(q.low, check, q.span)), float(epoch_us(q.high, check, q.span))
                case lines.Within():
                    if not numeric:
                        check.halt(f"`within` is for numbers; `{spec.name}` is a {spec.kind}", q.span)
                    low, high = float(check.bounded(q.low, q.span)), float(check.bounded(q.high, q.span))
                    if low > high:
                        check.halt(
                            f"the range goes downwards: write `within {q.high} to {q.low}`",
                            q.span,
                            f"within {q.high} to {q.low}",
                        )
                case lines.Missing(when=None):
                    for raw, word in zip(q.raws, q.raw_words, strict=True):
                        self.fits(raw, word, raws, q.span)
                    sentinels.append(
                        Sentinel(q.reason, signed_marks(q.raws, raws), None, q.fate, q.failure or "malformed")
                    )
                case lines.Missing():
                    assert q.when is not None
                    rule = check.truth(q.when, frame.scope)
                    if is_late(rule) and isinstance(node, lines.Read):
                        check.halt("a line that reads cannot go by the message before: say it with `derive`", q.span)
                    sentinels.append(Sentinel(q.reason, (), rule, q.fate, q.failure or "malformed"))
                case lines.Into():
                    into = q
                case lines.Stamped():
                    stamped = check.typed(q.value, frame.scope)
                    if stamped.type.kind != "time":
                        check.halt("`stamped` takes a time: the moment at which this was measured", q.span)
        declared = None if self.in_command else self.declared.get(spec.name)
        unit_by = None
        if isinstance(node, lines.Read) and isinstance(node.unit, lines.UnitBy):
            unit, unit_by = self.unit_choice(node.unit, into, frame, has(node, "difference"))
            into = None
            spec = replace(spec, unit=unit.code)
        if declared is not None and not hidden and not compatible(declared.kind, spec.kind):
            check.halt(
                f"`{spec.name}` is declared as {declared.kind}, this line gives {spec.kind}", self.spans[spec.name]
            )
        if has(node, "difference"):
            if not numeric or unit is None or unit.dimension != KELVIN.dimension:
                check.halt(
                    f"`difference` is for temperatures, whose scales have zeros of their own; `{spec.name}` is"
                    f" {shown(type_of(spec))}",
                    self.spans[spec.name],
                )
            spec = replace(spec, difference=True)
        if numeric and unit is not None:
            final = spec.unit
            if into:
                final = check.unit(into.unit, into.span).code
            elif declared is not None and declared.unit and not hidden:
                final = declared.unit
                unit_by = replace(unit_by, sent=()) if unit_by is not None else None
            target = parse_unit(final or "1")
            if target.dimension != unit.dimension:
                source = "declared in" if not into else "to be given in"
                span = into.span if into else (node.qualifiers[0].span if node.qualifiers else self.spans[spec.name])
                check.halt(
                    f"`{spec.name}` is {source} {target.code} ({describe(target.dimension)}); `{unit.code}` is"
                    f" {describe(unit.dimension)}",
                    span,
                )
            convert = None
            if not same_scale(unit, target):
                convert = between(unit, target, difference=spec.difference)
                if not into:
                    low, high = (None if x is None else (x * convert[0] + convert[1]) / convert[2] for x in (low, high))
                    check.warn(
                        f"`{spec.name}` is declared in {target.code}: values in {unit.code} are converted",
                        self.spans[spec.name],
                        f"{unit.code}  into {target.code}",
                    )
            if spec.wide and convert is not None:
                check.warn(
                    f"`{spec.name}` has more than 53 bits: converted into {target.code} it keeps about 15 digits",
                    self.spans[spec.name],
                )
            spec = replace(spec, unit=final, wide=spec.wide and convert is None)
            found = Cleaning(tuple(sentinels), low, high, convert, unit_by, stamped)
            return NO_CLEANING if found == NO_CLEANING else found, spec
        if into:
            check.halt(f"`into` converts numbers; `{spec.name}` is a {spec.kind}", into.span)
        found = Cleaning(tuple(sentinels), low, high, None, None, stamped)
        return NO_CLEANING if found == NO_CLEANING else found, spec

    def unit_choice(
        self, node: lines.UnitBy, into: lines.Into | None, frame: Frame, difference: bool
    ) -> tuple[Unit, UnitChoice]:
        check = self.check
        if node.name not in frame.scope.names:
            check.halt(f"`{node.name}` is no value read above{meant(node.name, frame.scope.names)}", node.span)
        chooser = frame.scope.names[node.name]
        first = check.unit(into.unit if into else node.arms[0].unit, into.span if into else node.span)
        arms: list[tuple[str | int, Linear, tuple[float, float, float]]] = []
        for arm in node.arms:
            unit = check.unit(arm.unit, node.span)
            if unit.dimension != first.dimension:
                check.halt(
                    f"`{unit.code}` is {describe(unit.dimension)}, but `{first.code}` is {describe(first.dimension)}:"
                    f" one field has one dimension",
                    node.span,
                )
            option = arm.option
            if chooser.kind == "code" and isinstance(option, str):
                option = next((number for number, text in chooser.codes if text == option), -2)
                if option == -2:
                    check.halt(f"{arm.word} is not one of the texts of `{node.name}`", node.span)
            if isinstance(option, str) != (chooser.kind == "text"):
                check.halt(
                    f"{arm.word} cannot be a value of `{node.name}`, which is"
                    f" {'a text' if chooser.kind == 'text' else 'a number'}",
                    node.span,
                )
            linear = linear_of(check, arm.scales, node.span)
            arms.append((option, linear, between(unit, first, difference=difference)))
        if node.written and (node.sent or chooser.kind != "text"):
            check.halt("`otherwise as written` is for texts that are units, each converted into the first", node.span)
        if node.sent and into:
            check.halt("`as sent` keeps the unit, `into` converts: one of them is meant", into.span)
        sent = tuple(arm.unit for arm in node.arms) if node.sent else ()
        written = first.code if node.written else None
        return first, UnitChoice(node.name, tuple(arms), sent, written, difference)

    def fits(self, raw: object, word: str, raws: tuple[Raw, ...], span: Span) -> None:
        if not raws:
            return
        if isinstance(raw, str):
            self.check.halt(
                f"found {word if raw.startswith(chr(0)) else chr(34) + raw + chr(34)}: a mark in bytes is a number,"
                f" such as 0xFFFF",
                span,
            )
        for place in raws:
            if place.floating or place.storage in DYNAMIC:
                continue
            low = -(2 ** (place.bits - 1)) if place.signed else 0
            if not isinstance(raw, int) or not low <= raw < 2**place.bits:
                self.check.halt(f"{word} does not fit into {place.bits} bits", span)

    # lines in bytes ------------------------------------------------------------
    def read(self, node: lines.Read, frame: Frame) -> Step:
        self.name_free(node, frame)
        address = node.address
        source = frame.scope.source
        if isinstance(address, lines.Nowhere) and not self.in_command:
            self.check.halt("a `parameter` stands in a command", address.span)
        if isinstance(address, lines.InHeader | lines.InTopic | lines.Nowhere):
            return self.read_value(node, frame)
        needs = {
            lines.InDocument: (DOCUMENTS, "at"),
            lines.InColumn: (("text",), "column"),
            lines.InGroup: (("text",), "group"),
            lines.InRegister: (("registers",), "register"),
            lines.InCoil: (("coils",), "coil"),
        }.get(type(address), ((*STORED, "text") if isinstance(address, lines.InRest) else STORED, "a place in bytes"))
        if source not in needs[0]:
            self.check.halt(
                f"{needs[1] if ' ' in needs[1] else '`' + needs[1] + '`'} belongs to {' and '.join(needs[0])}; this"
                f" is {source}",
                address.span,
            )
        if isinstance(address, lines.InColumn) and not frame.columns:
            self.check.halt('say first what stands between columns, as in `columns by ";"`', address.span)
        if isinstance(address, lines.InGroup) and address.name not in frame.groups:
            self.check.halt(
                f"`{address.name}` is no group of the pattern{meant(address.name, frame.groups)}", address.span
            )
        if isinstance(address, lines.InRecord) and not frame.records:
            self.check.halt("say first how records are made, as in `records tag u8, size u8`", address.span)
        if source in DOCUMENTS or source == "text":
            return self.read_value(node, frame)
        kind = node.kind
        if (isinstance(kind, lines.Plain) and kind.word in ("text", "hex")) or (
            isinstance(kind, lines.Flag) and kind.present
        ):
            return self.read_span(node, frame)
        return self.read_number(node, frame)

    def read_number(self, node: lines.Read, frame: Frame) -> Step:
        check, kind, scope = self.check, node.kind, frame.scope
        unit = check.unit(node.unit, node.unit_span or node.span) if isinstance(node.unit, str) else None

        def raw(storage: lines.Storage, address: lines.Address = node.address) -> Raw:
            return raw_of(check.halt, address, storage, scope.counting, kind.span, frame.last)

        match kind:
            case lines.Stored():
                unit = unit or PLAIN
                stored = self.stored(node.name, kind, raw(kind.storage), unit)
            case lines.Flag():
                stored = self.stored_flag(node, kind, raw)
            case lines.Codes():
                stored = self.stored_code(node, kind, raw)
            case lines.PositionKind():
                stored = self.stored_position(node, kind, raw)
            case lines.Clock(storage=lines.Storage()):
                assert kind.storage is not None
                first = raw(kind.storage)
                stored = Number((first,), FieldSpec(node.name, "time"), clock=self.clock(kind, first))
            case lines.Calendar(form="digits"):
                stored = self.stored_digits(node, kind, raw, frame)
            case _:
                check.halt(
                    f"`{getattr(kind, 'word', 'time')}` is a kind of documents; in bytes say how it is stored, such"
                    f" as `u16`",
                    kind.span,
                )
        raws = stored.raws
        if node.unit and stored.spec.kind not in ("number", "integer"):
            check.halt(f"a {stored.spec.kind} has no unit", node.unit_span or node.span)
        if not isinstance(kind, lines.PositionKind) and raws[0].place.mode not in ("record",):
            self.no_words(
                node,
                (lines.Required,),
                "asks for something that may be absent; bytes at a place are always there, or the message is too short",
            )
        self.no_words(node, (lines.Words, lines.After, lines.Sized), "belongs to text")
        self.only_words(node, set())
        cleaning, spec = self.cleaning(node, stored.spec, unit, frame, raws)
        if not self.in_command:
            self.sensible(node, raws, stored.linears, spec, cleaning)
            self.touch(node, raws, frame)
        frame.last = raws[-1]
        self.emit(node.name, node.name_span, spec, frame, has(node, "hidden"))
        return ReadStep(
            node.span.line,
            node.name,
            raws,
            stored.linears,
            spec,
            cleaning,
            has(node, "hidden"),
            stored.clock,
            required_of(node),
            has(node, "once"),
            stored.calendar,
        )

    def stored(self, name: str, kind: lines.Stored, raw: Raw, unit: Unit) -> Number:
        """A number with a unit; one of whole numbers without one is an integer."""
        linear = linear_of(self.check, kind.scales, kind.span)
        whole = not raw.floating and linear.c == 1
        large = raw.bits > 53 and raw.storage in ("u", "i", "sm", "oc", *DYNAMIC)
        kind_: FieldKind = "integer" if whole and unit.code == "1" else "number"
        return Number((raw,), FieldSpec(name, kind_, unit.code, (), large and linear.plain), (linear,))

    def stored_flag(self, node: lines.Read, kind: lines.Flag, raw: Placing) -> Number:
        bits = getattr(node.address, "bits", None)
        if not isinstance(node.address, lines.InCoil | lines.InStream) and (bits is None or bits.high != bits.low):
            self.check.halt("a flag is one bit: say which, as in `byte 0 bit 7`", kind.span)
        linear = Linear(-1, 1, 1) if kind.inverted else PLAIN_LINEAR
        return Number((raw(lines.Storage("u1")),), FieldSpec(node.name, "flag"), (linear,))

    def stored_code(self, node: lines.Read, kind: lines.Codes, raw: Placing) -> Number:
        bits = getattr(node.address, "bits", None)
        storage = kind.storage or lines.Storage(f"u{bits.high - bits.low + 1}" if bits else "u8")
        if storage.name in DYNAMIC or split(storage.name)[0] != "u":
            self.check.halt("a code is stored unsigned", kind.span)
        first = raw(storage)
        return Number((first,), FieldSpec(node.name, "code", None, self.codes(kind, first.bits)))

    def stored_position(self, node: lines.Read, kind: lines.PositionKind, raw: Placing) -> Number:
        """Latitude, and longitude behind it."""
        check, span = self.check, kind.span
        storages = [storage for storage, _ in kind.parts]
        if None in storages:
            check.halt("in bytes a position says how it is stored, as in `position i32 / 1e7, i32 / 1e7`", span)
        first_storage, second_storage = (s for s in storages if s is not None)
        first = raw(first_storage)
        letter, width = split(second_storage.name)
        at = first.place
        if (
            width % 8
            or first.bits % 8
            or getattr(node.address, "bits", None)
            or at.mode not in ("start", "end", "next", "register")
        ):
            check.halt("a position takes whole bytes", span)
        step = at.width // 2 if at.mode == "register" else at.width
        if at.mode == "end" and at.offset + at.width + width // 8 > 0:
            check.halt("the position reaches beyond the end of the payload", span)
        place = Place(at.mode, 0 if at.mode == "next" else at.offset + step, width // 8)
        return Number(
            (first, Raw(place, first.little, letter, width, 0)),
            FieldSpec(node.name, "position"),
            tuple(linear_of(check, scales, span) for _, scales in kind.parts),
        )

    def stored_digits(self, node: lines.Read, kind: lines.Calendar, raw: Placing, frame: Frame) -> Number:
        """A time in packed decimal digits, two a byte."""
        digits = sum(c.isalpha() for c in kind.pattern)
        if digits != len(kind.pattern):
            self.check.halt("packed digits have nothing between them: write YYYYMMDDhhmmss", kind.span)
        if digits % 2 or digits > 16:
            self.check.halt(
                "packed digits stand two a byte: the pattern has an even number of letters, at most 16", kind.span
            )
        address = node.address
        if isinstance(address, lines.InNext) and address.width == digits // 2:
            address = lines.InNext(address.span, None, address.bits)
        first = raw(lines.Storage(f"u{4 * digits}"), address)
        return Number((first,), FieldSpec(node.name, "time"), calendar=self.zoned(kind, frame))

    def read_span(self, node: lines.Read, frame: Frame) -> Step:
        check, kind = self.check, node.kind
        present = isinstance(kind, lines.Flag)
        if present and not isinstance(node.address, lines.InRecord):
            check.halt(
                "`flag present` says whether a record is there, as in `record 9  charging  flag present`", kind.span
            )
        sized = next((q.count for q in node.qualifiers if isinstance(q, lines.Sized) and q.most is None), None)
        extent = self.extent(self.as_long_as(node.address, sized, node.span), frame)
        if node.unit:
            check.halt("a text has no unit", node.unit_span or node.span)
        self.no_words(node, (lines.Words, lines.After), "belongs to documents and text")
        self.only_words(node, {"padded"} if not present else set())
        spec = FieldSpec(node.name, "flag" if present else "text")
        cleaning, spec = self.cleaning(node, spec, None, frame, ())
        hexadecimal = isinstance(kind, lines.Plain) and kind.word == "hex"
        form: TextForm = "present" if present else "hex" if hexadecimal else "text"
        self.emit(node.name, node.name_span, spec, frame, has(node, "hidden"))
        frame.last = None
        return SpanStep(
            node.span.line,
            node.name,
            extent,
            form,
            has(node, "padded"),
            sized,
            spec,
            cleaning,
            has(node, "hidden"),
            required_of(node),
            has(node, "once"),
        )

    def as_long_as(self, address: lines.Address, size: int | None, span: Span) -> lines.Address:
        """An address without a length takes as many bytes as `size` asks for; one with another length is a mistake."""
        if size is None:
            return address
        match address:
            case lines.InBytes(last=None):
                if address.first < 0 and address.first + size > 0:
                    self.check.halt(f"{size} bytes at byte {address.first} reach beyond the end of the payload", span)
                last = address.first + size - 1
                return replace(address, last=last)
            case lines.InNext(width=None):
                return replace(address, width=size)
            case lines.InBytes(first=first, last=int(last)) if (first < 0) == (last < 0) and last - first + 1 != size:
                self.check.refuse(f"the address takes {last - first + 1} bytes, `size` asks for {size}", span)
            case lines.InNext(width=int(width)) if width != size:
                self.check.refuse(f"the address takes {width} bytes, `size` asks for {size}", span)
        return address

    def only_words(self, node: lines.Read, allowed: set[str]) -> None:
        """A word behind a line where it would do nothing is a mistake."""
        belongs = {
            "padded": "takes blanks and zeros off the end of text and hex",
            "once": "is for records: it refuses a second one",
            **dict.fromkeys(COMMAS, "is for numbers that stand as text"),
            "nearest": "is for parameters of commands: what lies between two steps goes to the nearer one",
            "optional": "is for parameters of commands",
        }
        if self.in_command:
            allowed = allowed | {"nearest", "optional"}
            ignored = (lines.Missing, lines.Stamped, lines.Required)
            for q in node.qualifiers:
                if isinstance(q, ignored) or (isinstance(q, lines.Word) and q.word == "hidden"):
                    self.check.refuse(f"a parameter takes {PARAMETER_CLAUSES}; this would do nothing", q.span)
                if isinstance(q, lines.OneOf) and not (isinstance(node.kind, lines.Plain) and node.kind.word == "text"):
                    self.check.halt("`one of` is for texts; a code has its texts in braces", q.span)
        else:
            for q in node.qualifiers:
                if isinstance(q, lines.Default | lines.OneOf) or (isinstance(q, lines.Sized) and q.most is not None):
                    word = {lines.Default: "`default`", lines.OneOf: "`one of`"}.get(type(q), "a range of sizes")
                    self.check.halt(f"{word} belongs to the parameters of a command", q.span)
        if isinstance(node.address, lines.InRecord):
            allowed = allowed | {"once"}
        for q in node.qualifiers:
            if isinstance(q, lines.Word) and q.word in belongs and q.word not in allowed:
                self.check.refuse(f"`{q.word}` {belongs[q.word]}", q.span)

    def extent(self, address: lines.Address, frame: Frame) -> Extent:
        """A run of bytes; raises Halt for an address that is none."""
        check = self.check
        match address:
            case lines.InBytes(bits=None):
                last = address.first if address.last is None else address.last
                base = frame.scope.counting.first
                first = address.first - base if address.first > 0 else address.first
                last = last - base if last > 0 else last
                if (first < 0) == (last < 0):
                    if last < first:
                        check.halt("a range of bytes goes upwards", address.span)
                    return Extent("end" if first < 0 else "start", first, last - first + 1)
                if first < 0:
                    check.halt("a range of bytes goes upwards", address.span)
                return Extent("between", first, last)
            case lines.InNext(bits=None):
                if address.width is None:
                    check.halt("say how many bytes, as in `next 8 bytes`, `next size bytes` or `rest`", address.span)
                if address.width == 0:
                    check.refuse("the next 0 bytes hold nothing", address.span)
                width = address.width if isinstance(address.width, int) else check.number(address.width, frame.scope)
                if not isinstance(width, int) and is_late(width):
                    check.halt("a width cannot go by the message before", address.span)
                return Extent("next", 0, width)
            case lines.InRest():
                return Extent("rest")
            case lines.InRecord():
                if not frame.records:
                    check.halt("say first how records are made, as in `records tag u8, size u8`", address.span)
                return Extent("record", address.tag)
            case lines.InRegister(bits=None):
                count = (address.last or address.first) - address.first + 1
                if count < 1:
                    check.halt("a range of registers goes upwards", address.span)
                return Extent("register", address.first, 2 * count)
        check.halt(
            "this is no run of whole bytes: write `bytes 4 to 11`, `next 8 bytes`, `rest` or `record 1`", address.span
        )

    def codes(self, kind: lines.Codes, bits: int) -> tuple[tuple[int, str], ...]:
        for low, high, _ in kind.ranges:
            if low > high:
                self.check.halt(f"the range goes downwards: write `{high} to {low}`", kind.span)
            if high >= 2**bits:
                self.check.halt(f"{high} does not fit into {bits} bits", kind.span)
        if sum(high - low + 1 for low, high, _ in kind.ranges) > limits.CODES:
            self.check.halt(f"a code has at most {limits.CODES} numbers: say `otherwise` for the rest", kind.span)
        texts = tuple((number, text) for low, high, text in kind.ranges for number in range(low, high + 1))
        if len(dict(texts)) != len(texts):
            self.check.halt("a number stands twice in this code", kind.span)
        return (*texts, (-1, kind.other)) if kind.other is not None else texts

    def clock(self, kind: lines.Clock, raw: Raw | None) -> tuple[float, int, bool]:
        found = self.check.unit(kind.unit, kind.span)
        if found.dimension != SECOND.dimension:
            self.check.halt(
                f"a time counts seconds or the like; `{kind.unit}` is {describe(found.dimension)}", kind.span
            )
        if kind.wrapping and (raw is None or raw.storage != "u" or raw.bits > 48):
            self.check.halt("a counter that wraps is stored unsigned, in at most 48 bits", kind.span)
        return float(found.factor), epoch_us(kind.since, self.check, kind.span), kind.wrapping

    def zoned(self, kind: lines.Calendar, frame: Frame) -> Zoned:
        check = self.check
        problem = pattern_problem(kind.pattern)
        if problem:
            check.halt(problem, kind.span)
        zone_field = None
        if kind.zone is not None and kind.zone_name:
            zone_field = kind.zone
            if frame.scope.names.get(zone_field) is None or frame.scope.names[zone_field].kind != "text":
                check.halt(
                    f'`{zone_field}` is no text read above: a zone is a name such as "Atlantic/Azores"', kind.span
                )
        elif kind.zone is not None and not known_zone(kind.zone):
            check.halt(f'"{kind.zone}" is no time zone: write a name such as "Atlantic/Azores", or "+01:00"', kind.span)
        if kind.again is not None and frame.scope.names.get(kind.again) != TRUTH:
            check.halt(f"`{kind.again}` is no flag read above: it tells the second pass of a doubled hour", kind.span)
        if kind.century is not None and (("Y", 2) not in pattern_parts(kind.pattern) or not 1 <= kind.century <= 9900):
            check.halt("`century` is the first year that the two digits of a year stand for", kind.span)
        return Zoned(kind.pattern, None if kind.zone_name else kind.zone, zone_field, kind.again, kind.century)

    # lines in documents, columns and headers -------------------------------------
    def read_value(self, node: lines.Read, frame: Frame) -> Step:
        check, kind, address = self.check, node.kind, node.address
        unit = check.unit(node.unit, node.unit_span or node.span) if isinstance(node.unit, str) else None
        linears: tuple[Linear, ...] = (PLAIN_LINEAR,)
        textual = not isinstance(address, lines.InDocument | lines.Nowhere)
        written = textual
        clock = calendar = None
        wanted = 1
        form = ""
        match kind:
            case lines.Plain(word="number" | "integer"):
                unit = unit or PLAIN
                linears = (linear_of(check, kind.scales, kind.span),)
                form = "hex integer" if kind.form == "hex" else kind.word
                written = written or kind.form is not None
                spec = FieldSpec(node.name, "number" if kind.word == "number" else "integer", unit.code)
            case lines.Stored(storage=lines.Storage(name="u64" | "i64", order=None, words=None), scales=()):
                form, unit = kind.storage.name, unit or PLAIN
                spec = FieldSpec(node.name, "integer" if unit.code == "1" else "number", unit.code, (), True)
            case lines.Plain(word="form" | "tag"):
                form = kind.word
                if not isinstance(address, lines.InDocument) or frame.scope.source not in ("json", "cbor"):
                    check.halt(f"`{form}` is read at a path of a document: `at value  {node.name}  {form}`", kind.span)
                if form == "tag" and frame.scope.source != "cbor":
                    check.halt("values of JSON have no tags; CBOR's have", kind.span)
                spec = (
                    FieldSpec(node.name, "text") if form == "form" else FieldSpec(node.name, "integer", "1", (), True)
                )
            case lines.Plain(word="text" | "hex"):
                form = kind.word
                spec = FieldSpec(node.name, "text")
            case lines.Plain():
                form = kind.word
                spec = FieldSpec(node.name, "time")
            case lines.Clock(storage=None):
                form, clock = "clock", self.clock(kind, None)
                spec = FieldSpec(node.name, "time")
            case lines.Calendar(form="text"):
                form, calendar = "calendar", self.zoned(kind, frame)
                spec = FieldSpec(node.name, "time")
            case lines.Flag(present=False):
                form = "flag"
                linears = (Linear(-1, 1, 1) if kind.inverted else PLAIN_LINEAR,)
                spec = FieldSpec(node.name, "flag")
            case lines.Codes(storage=None):
                form = "integer"
                spec = FieldSpec(node.name, "code", None, self.codes(kind, 53))
            case lines.PositionKind():
                wanted = 2
                form = "number"
                if any(storage is not None for storage, _ in kind.parts):
                    check.halt("in a document a position is `position number, number`", kind.span)
                linears = tuple(linear_of(check, scales, kind.span) for _, scales in kind.parts)
                spec = FieldSpec(node.name, "position")
            case _:
                check.halt(
                    "a storage of bytes stands in a document: write `number`, `integer`, `flag`, `text`, `hex` or"
                    " `time iso`; `u64` and `i64`, without a scale, keep all digits",
                    kind.span,
                )
        places: tuple[At, ...]
        match address:
            case lines.InDocument():
                if len(address.paths) != wanted:
                    check.halt("a position has two paths, `at lat, lon`; everything else has one", address.span)
                places = tuple(At("path", path) for path in address.paths)
            case lines.InColumn():
                places = (At("column", first=address.first, last=address.last),)
            case lines.InGroup():
                places = (At("group", name=address.name),)
            case lines.InHeader():
                places = (At("header", name=address.name),)
            case lines.InTopic():
                places = (At("topic", first=address.level),)
            case lines.Nowhere():
                places = ()
            case _:
                places = (At("rest"),)
        if wanted == 2 and len(places) != 2 and not self.in_command:
            check.halt("a position is read from two paths of a document", address.span)
        if node.unit and spec.kind not in ("number", "integer"):
            check.halt(f"a {spec.kind} has no unit", node.unit_span or node.span)
        words = self.words(node, spec)
        cleaning, spec = self.cleaning(node, spec, unit, frame, ())
        sized = next((q.count for q in node.qualifiers if isinstance(q, lines.Sized)), None)
        after = next((q.text for q in node.qualifiers if isinstance(q, lines.After)), "")
        self.emit(node.name, node.name_span, spec, frame, has(node, "hidden"))
        said = node.unit if isinstance(node.unit, str) else None
        comma = next((word for word in COMMAS if has(node, word)), "")
        if comma == COMMAS[0] and check.published:
            comma = COMMAS[1]  # which it was in earlier editions
        words_for = {"text": {"padded"}, "hex": {"padded"}, "number": set(COMMAS), "integer": set(COMMAS)}
        self.only_words(node, words_for.get(form, set()) if form in ("text", "hex") or written else set())
        return ValueStep(
            node.span.line,
            node.name,
            places,
            linears,
            spec,
            cleaning,
            has(node, "hidden"),
            required_of(node),
            form,
            written,
            isinstance(kind, lines.Plain) and kind.form == lines.EITHER and not textual,
            comma,
            words,
            after,
            sized,
            clock,
            calendar,
            said,
            has(node, "padded"),
        )

    def words(self, node: lines.Read, spec: FieldSpec) -> tuple[tuple[str, float], ...]:
        found = next((q for q in node.qualifiers if isinstance(q, lines.Words)), None)
        if found is None:
            return ()
        if spec.kind not in ("number", "integer", "flag"):
            self.check.halt(f"`words` gives numbers for words; `{spec.name}` is a {spec.kind}", found.span)
        return tuple((text, float(self.check.bounded(number, found.span))) for text, number in found.numbers)

    def no_words(self, node: lines.Read, kinds: tuple[type, ...], why: str) -> None:
        for q in node.qualifiers:
            if isinstance(q, kinds):
                name = {lines.Required: "required", lines.Words: "words", lines.After: "after", lines.Sized: "size"}[
                    type(q)
                ]
                self.check.halt(f"`{name}` {why}", q.span)

    # remarks ---------------------------------------------------------------------
    def sensible(
        self, node: lines.Read, raws: tuple[Raw, ...], linears: tuple[Linear, ...], spec: FieldSpec, cleaning: Cleaning
    ) -> None:
        """Warns of a range that the storage cannot hold, a scale that loses digits, codes without a text."""
        raw, linear = raws[0], linears[0]
        if spec.kind == "code" and raw.storage == "u" and raw.bits <= 8 and raw.bits > 1:
            absent = 2**raw.bits - len(spec.codes)
            if -1 not in dict(spec.codes) and 0 < absent <= 4 and raw.bits <= 3:
                lost = [str(n) for n in range(2**raw.bits) if n not in dict(spec.codes)]
                self.untold[spec.name] = (
                    f"`{spec.name}` has no text for {', '.join(lost)}: such a value will be missing (say `otherwise`"
                    f" and a text, or reject it)",
                    node.kind.span,
                )
        if spec.kind not in ("number", "integer") or raw.storage not in ("u", "i"):
            return
        low, high = (-(2 ** (raw.bits - 1)), 2 ** (raw.bits - 1) - 1) if raw.storage == "i" else (0, 2**raw.bits - 1)
        ends = sorted(((low * linear.a + linear.b) / linear.c, (high * linear.a + linear.b) / linear.c))
        if (
            cleaning.convert is None
            and cleaning.low is not None
            and cleaning.high is not None
            and (cleaning.high < ends[0] or cleaning.low > ends[1])
        ):
            self.check.warn(
                f"the range {cleaning.low:g} to {cleaning.high:g} is outside of what {raw.storage}{raw.bits} can say"
                f" here: {ends[0]:g} to {ends[1]:g}",
                node.span,
            )
        elif (
            cleaning.convert is None
            and cleaning.low is not None
            and cleaning.high is not None
            and (cleaning.high > ends[1] + 1e-9 or cleaning.low < ends[0] - 1e-9)
        ):
            self.check.warn(
                f"{raw.storage}{raw.bits} says {ends[0]:g} to {ends[1]:g} here: the range {cleaning.low:g} to"
                f" {cleaning.high:g} goes beyond it",
                node.span,
            )
        if raw.bits + max(abs(linear.a).bit_length() - 1, 0) > 53 and not linear.plain:
            self.check.warn(
                "the largest values have more digits than a number keeps (about 15): the scale loses the last ones",
                node.kind.span,
            )

    def touch(self, node: lines.Read, raws: tuple[Raw, ...], frame: Frame) -> None:
        """Notes which bits a line reads and warns where another has read them."""
        if frame.used is None:
            return
        for raw in raws:
            if raw.place.mode != "start":
                continue
            mask = ((1 << raw.bits) - 1) << raw.shift
            for k in range(raw.place.width):
                part = (mask >> (8 * (k if raw.little else raw.place.width - 1 - k))) & 0xFF
                have, by = frame.used.get(raw.place.offset + k, (0, ""))
                if have & part and by != node.name:
                    self.check.warn(
                        f"`{node.name}` reads bits of byte {raw.place.offset + k + frame.scope.counting.first} that"
                        f" `{by}` has read already",
                        node.address.span,
                    )
                    return
            for k in range(raw.place.width):
                part = (mask >> (8 * (k if raw.little else raw.place.width - 1 - k))) & 0xFF
                have, _ = frame.used.get(raw.place.offset + k, (0, ""))
                frame.used[raw.place.offset + k] = (have | part, node.name)


def has(node: lines.Read | lines.Derive, word: str) -> bool:
    return any(isinstance(q, lines.Word) and q.word == word for q in node.qualifiers)


def required_of(node: lines.Read) -> str | None:
    found = next((q for q in node.qualifiers if isinstance(q, lines.Required)), None)
    return None if found is None else found.failure or "malformed"


def signed_marks(marks: tuple[str | int | float, ...], raws: tuple[Raw, ...]) -> tuple[object, ...]:
    """Marks as the storage reads them: 0x8000 of an i16 is -32768."""
    if not raws or raws[0].storage != "i":
        return marks
    half, whole = 2 ** (raws[0].bits - 1), 2 ** raws[0].bits
    return tuple(mark - whole if isinstance(mark, int) and mark >= half else mark for mark in marks)
