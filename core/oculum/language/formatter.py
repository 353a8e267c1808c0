"""One layout for every definition. Comments stay; parse(format(x)) equals parse(x) but for places."""

from __future__ import annotations

from collections.abc import Iterable

from . import tree
from .build import quoted
from .parser import parse
from .problems import DefinitionError

PRECEDENCE = {"or": 1, "and": 2, "not": 3, "compare": 4, "+": 5, "-": 5, "*": 6, "/": 6, "minus": 7, "^": 8}
GAP = "  "
WIDEST = 28  # cells beyond, such as long codes, push no others to the right
Row = tuple[int, str, list[str]]  # line, indent, cells


def _comments(text: str) -> tuple[dict[int, str], dict[int, str]]:
    """Comments on lines of their own, and those behind a statement, by line."""
    own: dict[int, str] = {}
    behind: dict[int, str] = {}
    for index, line in enumerate(text.replace("\r\n", "\n").split("\n"), 1):
        inside = ""
        for column, letter in enumerate(line):
            if inside:
                if letter == inside and (inside == "`" or line[column - 1] != "\\"):
                    inside = ""
            elif letter in '"`':
                inside = letter
            elif letter == "#":
                target = own if not line[:column].strip() else behind
                target[index] = line[column:].rstrip()
                break
    return own, behind


def format_definition(text: str) -> str:
    """The canonical text. Raises DefinitionError if `text` has a syntax error."""
    node, problems, _ = parse(text)
    if problems:
        raise DefinitionError(problems)
    return print_tree(node, *_comments(text))


def print_tree(node: tree.Definition, own: dict[int, str] | None = None, behind: dict[int, str] | None = None) -> str:
    """The text of a tree. own, behind: comments on lines of their own, and behind a statement, by line."""
    rows: list[Row] = []  # line, indent, cells
    if isinstance(node, tree.Decoder):
        order = (f", {node.order} endian" if node.order else "") + (
            f", counted from {node.counted}" if node.counted is not None else ""
        )
        rows.append((node.span.line, "", [f"decoder {node.name} for {node.source}{order}"]))
        _body(node.body, "  ", rows)
    else:
        rows.append((node.span.line, "", [f"condition {quoted(node.name)} priority {node.priority}"]))
        for clause in node.clauses:
            rows.append((clause.span.line, "  ", [_clause(clause)]))
    return _laid_out(rows, own or {}, behind or {})


def _laid_out(rows: list[Row], own: dict[int, str], behind: dict[int, str]) -> str:
    widths = _widths(rows)
    lines: list[str] = []
    waiting = sorted(own)
    done_behind: set[int] = set()
    for index, (line, indent, cells) in enumerate(rows):
        while waiting and waiting[0] < line:
            lines.append(indent + own[waiting.pop(0)])
        text = indent + GAP.join(cell.ljust(width) for cell, width in zip(cells, widths[index], strict=True)).rstrip()
        following = rows[index + 1][0] if index + 1 < len(rows) else 10**9
        notes = [behind[k] for k in sorted(behind) if line <= k < following and k not in done_behind]
        done_behind.update(k for k in behind if line <= k < following)
        lines.append(text + (GAP + " ".join(notes) if notes else ""))
    lines += [own[k] for k in waiting]
    return "\n".join(lines) + "\n"


def _widths(rows: list[Row]) -> list[list[int]]:
    """Cell widths: neighbouring rows of several cells on one level share columns."""
    found: list[list[int]] = [[0] * len(cells) for _, _, cells in rows]
    start = 0
    while start < len(rows):
        end = start
        while end < len(rows) and len(rows[end][2]) > 1 and rows[end][1] == rows[start][1]:
            end += 1
        if end == start:
            start += 1
            continue
        group = range(start, end)
        for column in range(max(len(rows[i][2]) for i in group)):
            lengths = [len(rows[i][2][column]) for i in group if column < len(rows[i][2])]
            width = max((length for length in lengths if length <= WIDEST), default=0)
            for i in group:
                if column < len(found[i]):
                    found[i][column] = width
        start = end
    return found


def _body(statements: Iterable[tree.Statement], indent: str, rows: list[Row]) -> None:
    for node in statements:
        line = node.span.line
        inner = indent + "  "
        match node:
            case tree.Read():
                cells = [
                    _address(node.address),
                    node.name,
                    _kind(node.kind),
                    _unit(node.unit),
                    " ".join(_qualifier(q) for q in node.qualifiers),
                ]
                while cells and not cells[-1]:
                    cells.pop()
                rows.append((line, indent, cells))
            case tree.Put():
                rows.append(
                    (line, indent, [f"{_address(node.address)}  {_storage(node.storage)} = {expression(node.value)}"])
                )
            case tree.When():
                rows.append((line, indent, [f"when {expression(node.rule)}"]))
                _body(node.body, inner, rows)
                _otherwise(node.otherwise, indent, rows)
            case tree.Choose():
                rows.append((line, indent, [f"choose {expression(node.value)}"]))
                for arm in node.arms:
                    rows.append((arm.span.line, inner, ["is " + ", ".join(_option(o) for o in arm.options)]))
                    _body(arm.body, inner + "  ", rows)
                _otherwise(node.otherwise, inner, rows)
            case tree.Repeat() | tree.Apart() | tree.Open() | tree.Command():
                rows.append((line, indent, [_head(node)]))
                _body(node.body, inner, rows)
            case _:
                rows.append((line, indent, [_line(node)]))


def _otherwise(statements: tuple[tree.Statement, ...], indent: str, rows: list[Row]) -> None:
    if statements:
        rows.append((statements[0].span.line - 1, indent, ["otherwise"]))
        _body(statements, indent + "  ", rows)


def _head(node: tree.Repeat | tree.Apart | tree.Open | tree.Command) -> str:
    match node:
        case tree.Repeat():
            each = f", each {expression(node.each[0])} {node.each[1]}" if node.each else ""
            return f"repeat {_count(node.count)}{each}"
        case tree.Apart():
            return "apart" + (f" {quoted(node.word)}" if node.word is not None else "")
        case tree.Open():
            order = f", {node.order} endian" if node.order else ""
            words = "".join(f" {word}" for word in node.words)
            return f"open {_address(node.region)}{f' as {node.encoding}' if node.encoding else ''}{order}{words}"
        case tree.Command():
            return f"command {node.name}"


def _line(node: tree.Statement) -> str:
    match node:
        case tree.Derive():
            return f"derive {node.name} = {expression(node.value)}" + "".join(
                " " + _qualifier(q) for q in node.qualifiers
            )
        case tree.MissingRule():
            return (
                f"missing {quoted(node.reason)} {', '.join(name for name, _ in node.names)} when"
                f" {expression(node.rule)}"
            )
        case tree.Reject():
            failure = f" as {node.failure}" if node.failure else ""
            rule = f" {'unless' if node.unless else 'when'} {expression(node.rule)}" if node.rule is not None else ""
            return f"reject {quoted(node.reason)}{failure}{rule}"
        case tree.Stamp():
            return f"stamp {expression(node.value)}"
        case tree.Device():
            return f"device {expression(node.value)}"
        case tree.Length():
            return f"length {'at least ' if node.least else ''}{expression(node.low)}" + (
                f" to {expression(node.high)}" if node.high else ""
            )
        case tree.Skip():
            word = "bits" if node.bits else "byte" if node.count == 1 else "bytes"
            return f"skip {_amount(node.count)} {word}"
        case tree.Records():
            region = f"bytes {node.first} to {node.last}, " if node.first is not None else ""
            return (
                f"records {region}tag {_storage(node.tag)}, size {_storage(node.size)}{', once' if node.once else ''}"
            )
        case tree.Hand():
            return (
                f"decode {_address(node.region)}{f' as {node.encoding}' if node.encoding else ''} with"
                f" {', '.join(name for name, _ in node.decoders)}"
            )
        case tree.Constant():
            return f"constant {node.name} {node.kind}{f' {node.unit}' if node.unit else ''} = {_literal(node.value)}"
        case tree.Table():
            points = ", ".join(f"{x} {y}" for x, y in node.points)
            return f"table {node.name}{f' to {node.unit}' if node.unit else ''} {{ {points} }}"
        case tree.Origin():
            return f"origin {expression(node.value)}"
        case tree.Columns():
            return f"columns by {quoted(node.by)}"
        case tree.Pattern():
            return f"pattern {quoted(node.text)}"
        case tree.FrameLine():
            return f"frame {_framing(node.framing)}"
    raise AssertionError(node)


def _count(count: tree.Count) -> str:
    most = f" up to {count.most}" if count.most is not None else ""
    match count.kind:
        case "end":
            return "to end" + most
        case "times" if count.value is not None:
            return f"{expression(count.value)} times{most}"
        case "bits" if count.value is not None:
            return f"set bits of {expression(count.value)}"
        case "list":
            paths = " and ".join(_path(path) for path in count.paths)
            return f"at {paths}{' or alone' if count.alone else ''}{' required' if count.required else ''}"
        case "record":
            return f"record {count.tag}"
        case "columns":
            return f"columns {count.first} to {count.last}"
        case "frames" if count.framing is not None:
            return f"frames {_framing(count.framing)}"
    return "lines"


def _byte(number: int) -> str:
    return f"0x{number:02X}"


def _framing(framing: tree.Framing) -> str:
    escape = f" escape {_byte(framing.escape)} xor {_byte(framing.xor or 0)}" if framing.escape is not None else ""
    return f"from {_byte(framing.start)} to {_byte(framing.end)}{escape}"


def _amount(count: int | tree.Expr) -> str:
    if isinstance(count, int):
        return str(count)
    return count.name if isinstance(count, tree.Name) else f"({expression(count)})"


def _option(option: tree.Option) -> str:
    if option.kind == "number":
        return option.low + (f" to {option.high}" if option.high is not None else "")
    return quoted(option.low) if option.kind == "text" else f"`{option.low}`"


def _literal(node: tree.Literal) -> str:
    return quoted(node.word) if node.kind == "text" else node.word


def _bits(bits: tree.Bits | None) -> str:
    if bits is None:
        return ""
    return f" bit {bits.high}" if bits.single else f" bits {bits.high} to {bits.low}"


def _path(path: tree.Path) -> str:
    text = ""
    for step in path:
        match step:
            case tree.Index():
                text += f"[{step.number}]"
            case tree.Keyed():
                text += f"[{step.key} = {quoted(step.value) if isinstance(step.value, str) else step.word}]"
            case _:
                text += ("." if text else "") + (
                    step
                    if isinstance(step, str) and _is_name(step)
                    else quoted(step)
                    if isinstance(step, str)
                    else str(step)
                )
    return text or "."


def _address(node: tree.Address) -> str:
    match node:
        case tree.InBytes():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return where + _bits(node.bits)
        case tree.InNext():
            width = "" if node.width is None else " byte" if node.width == 1 else f" {_amount(node.width)} bytes"
            return "next" + width + _bits(node.bits)
        case tree.InStream():
            return "next bits"
        case tree.InRest():
            return "rest"
        case tree.InSame():
            return "same" + _bits(node.bits)
        case tree.InRegister():
            where = f"register {node.first}" if node.last is None else f"registers {node.first} to {node.last}"
            return where + _bits(node.bits)
        case tree.InCoil():
            return f"coil {node.number}"
        case tree.InRecord():
            return f"record {node.tag}"
        case tree.InDocument():
            return "at " + ", ".join(_path(path) for path in node.paths)
        case tree.InColumn():
            return f"column {node.first}" + (f" to {node.last}" if node.last is not None else "")
        case tree.InGroup():
            return f"group {node.name}"
        case tree.InHeader():
            return f"header {node.name}"
        case tree.InTopic():
            return f"topic {node.level}"


def _scales(scales: tuple[tree.Scale, ...]) -> str:
    return "".join(f" {scale.sign} {scale.number}" for scale in scales)


def _storage(storage: tree.Storage) -> str:
    name = f"unsigned {storage.low} to {storage.high} bytes" if storage.name == "unsigned" else storage.name
    return (
        name
        + (f" {storage.order}" if storage.order else "")
        + (f" {storage.words} word first" if storage.words else "")
    )


def _kind(node: tree.Kind) -> str:
    match node:
        case tree.Stored():
            return _storage(node.storage) + _scales(node.scales)
        case tree.Flag():
            return "flag present" if node.present else "flag"
        case tree.Codes():
            texts = ", ".join(f"{number} {text if _is_name(text) else quoted(text)}" for number, text in node.texts)
            other = (
                f", otherwise {node.other if _is_name(node.other) else quoted(node.other)}"
                if node.other is not None
                else ""
            )
            return "code" + (f" {_storage(node.storage)}" if node.storage else "") + " { " + texts + other + " }"
        case tree.PositionKind():
            return "position " + ", ".join(
                ("number" if part is None else _storage(part)) + _scales(scales) for part, scales in node.parts
            )
        case tree.Clock():
            stored = "number" if node.storage is None else _storage(node.storage)
            return f"time {stored} {node.unit} since {quoted(node.since)}{' wrapping' if node.wrapping else ''}"
        case tree.Calendar():
            zone = "" if node.zone is None else f" local {node.zone if node.zone_name else quoted(node.zone)}"
            return f"time {node.form} {quoted(node.pattern)}{zone}{f' again {node.again}' if node.again else ''}"
        case tree.Plain(word="iso" | "tagged"):
            return f"time {node.word}"
        case tree.Plain():
            return node.word + (f" from {node.form}" if node.form else "") + _scales(node.scales)


def _unit(unit: str | tree.UnitBy | None) -> str:
    if not isinstance(unit, tree.UnitBy):
        return unit or ""
    arms = ", ".join(f"{arm.word}{_scales(arm.scales)} {arm.unit}" for arm in unit.arms)
    return f"by {unit.name} {{ {arms} }}"


def _is_name(text: str) -> bool:
    return (
        bool(text)
        and text[0].isalpha()
        and text.islower()
        and text.isascii()
        and all(c.isalnum() or c == "_" for c in text)
    )


def _mark(raw: str | int | float, word: str) -> str:
    return quoted(raw) if isinstance(raw, str) and not raw.startswith("\x00") else word


def _qualifier(node: tree.Qualifier) -> str:
    match node:
        case tree.Within(times=True):
            return f"within {quoted(node.low)} to {quoted(node.high)}"
        case tree.Within():
            return f"within {node.low} to {node.high}"
        case tree.Missing(when=None):
            raws = ", ".join(_mark(raw, word) for raw, word in zip(node.raws, node.raw_words, strict=True))
            return f"missing {quoted(node.reason)} raw {raws}"
        case tree.Missing():
            assert node.when is not None
            return f"missing {quoted(node.reason)} when {expression(node.when)}"
        case tree.Into():
            return f"into {node.unit}"
        case tree.Word():
            return node.word
        case tree.Required():
            return "required" + (f" as {node.failure}" if node.failure else "")
        case tree.Stamped():
            return f"stamped {expression(node.value)}"
        case tree.Default():
            return f"default {_literal(node.value)}"
        case tree.Words():
            return "words { " + ", ".join(f"{quoted(text)} {number}" for text, number in node.numbers) + " }"
        case tree.After():
            return f"after {quoted(node.text)}"
        case tree.Sized():
            return f"size {node.count} byte{'s' if node.count > 1 else ''}"


def _clause(node: tree.Clause) -> str:
    match node:
        case tree.On():
            labels = ", ".join(f"label {name} {sign} {quoted(text)}" for name, sign, text in node.labels)
            return f"on {node.device_type}" + (f" with {labels}" if labels else "")
        case tree.Raise():
            band = (
                f" deadband {node.deadband.number}{' ' + node.deadband.unit if node.deadband.unit else ''}"
                if node.deadband
                else ""
            )
            return f"raise when {expression(node.rule)}{band}{_held(node.held)}"
        case tree.Clear():
            return f"clear when {expression(node.rule)}{_held(node.held)}"
        case tree.Say():
            return f"say {quoted(node.template)}"


def _held(node: tree.Held | None) -> str:
    return f" held {node.number} {node.unit}" if node else ""


def expression(node: tree.Expr, above: int = 0) -> str:
    """An expression with only the brackets it needs."""

    def bracketed(text: str, level: int) -> str:
        return f"({text})" if level < above else text

    match node:
        case tree.Quantity():
            return node.number + (f" {node.unit}" if node.unit else "")
        case tree.String():
            return quoted(node.text)
        case tree.CodeText():
            return f"`{node.text}`"
        case tree.Truth():
            return "true" if node.value else "false"
        case tree.Setpoint():
            return f"setpoint {node.name}"
        case tree.PayloadLength():
            return "length"
        case tree.Name():
            return node.name
        case tree.ByteRange():
            return f"{'registers' if node.registers else 'bytes'} {node.first} to {node.last}"
        case tree.Call():
            return f"{node.function}({', '.join(expression(a) for a in node.arguments)})"
        case tree.ReadAt(register=True):
            return f"{node.storage}{' ' + node.order if node.order else ''} at register {node.first}"
        case tree.ReadAt():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return f"{node.storage}{' ' + node.order if node.order else ''} at {where}{_bits(node.bits)}"
        case tree.Choice():
            return bracketed(
                f"if {expression(node.rule)} then {expression(node.then)} else {expression(node.otherwise)}", 0
            )
        case tree.Unary(sign="-"):
            return bracketed(f"-{expression(node.value, 7)}", 7)
        case tree.Unary(sign="not"):
            return bracketed(f"not {expression(node.value, 3)}", 3)
        case tree.Unary():
            return bracketed(f"{expression(node.value, 5)} is missing", 4)
        case tree.Power():
            return bracketed(f"{expression(node.value, 9)} ^ {node.exponent}", 8)
        case tree.Membership():
            return bracketed(
                f"{expression(node.value, 5)} in {{ {', '.join(expression(o) for o in node.options)} }}", 4
            )
        case tree.Binary():
            level = PRECEDENCE.get(node.sign, 4)
            left, right = (5, 5) if level == 4 else (level, level + 1)
            return bracketed(f"{expression(node.left, left)} {node.sign} {expression(node.right, right)}", level)
