"""A decoder in its one layout."""

from __future__ import annotations

from collections.abc import Iterable

from .. import tree
from ..build import quoted
from ..printing import Row, bits_text, braced, expression
from . import lines


def rows(node: lines.Decoder) -> list[Row]:
    """Line, indent and cells of every line."""
    order = (f", {node.order} endian" if node.order else "") + (
        (f", counted from {node.counted}" if node.counted is not None else "")
        + (f", labels {node.labels}" if node.labels else "")
        + (", records required" if node.records else "")
    )
    found: list[Row] = [(node.span.line, "", [f"decoder {node.name} for {node.source}{order}"])]
    _body(node.body, "  ", found)
    return found


def _body(statements: Iterable[lines.Statement], indent: str, rows: list[Row]) -> None:
    for node in statements:
        line = node.span.line
        inner = indent + "  "
        match node:
            case lines.Read():
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
            case lines.Put():
                where = [] if node.address is None else [_address(node.address)]
                stored = [] if node.storage is None else [_stored(node.storage)]
                rows.append((line, indent, ["  ".join([*where, *stored]) + f" = {expression(node.value)}"]))
            case lines.When():
                rows.append((line, indent, [f"when {expression(node.rule)}"]))
                _body(node.body, inner, rows)
                _otherwise(node.otherwise, indent, rows)
            case lines.Choose():
                rows.append((line, indent, [f"choose {expression(node.value)}"]))
                for arm in node.arms:
                    rows.append((arm.span.line, inner, ["is " + ", ".join(_option(o) for o in arm.options)]))
                    _body(arm.body, inner + "  ", rows)
                _otherwise(node.otherwise, inner, rows)
            case lines.Repeat() | lines.Apart() | lines.Open() | lines.Command():
                rows.append((line, indent, [_head(node)]))
                _body(node.body, inner, rows)
            case _:
                rows.append((line, indent, [_line(node)]))


def _otherwise(statements: tuple[lines.Statement, ...], indent: str, rows: list[Row]) -> None:
    if statements:
        rows.append((statements[0].span.line - 1, indent, ["otherwise"]))
        _body(statements, indent + "  ", rows)


def _head(node: lines.Repeat | lines.Apart | lines.Open | lines.Command) -> str:
    match node:
        case lines.Repeat():
            each = f", each {expression(node.each[0])} {node.each[1]}" if node.each else ""
            return f"repeat {_count(node.count)}{each}"
        case lines.Apart():
            return "apart" + (f" {quoted(node.word)}" if node.word is not None else "")
        case lines.Open():
            order = f", {node.order} endian" if node.order else ""
            words = "".join(f" {word}" for word in node.words)
            return f"open {_address(node.region)}{f' as {node.encoding}' if node.encoding else ''}{order}{words}"
        case lines.Command():
            return f"command {node.name}{f' as {node.payload}' if node.payload else ''}"


def _line(node: lines.Statement) -> str:
    match node:
        case lines.Derive():
            return f"derive {node.name} = {expression(node.value)}" + "".join(
                " " + _qualifier(q) for q in node.qualifiers
            )
        case lines.MissingRule():
            return (
                f"missing {quoted(node.reason)} {', '.join(name for name, _ in node.names)} when"
                f" {expression(node.rule)}"
            )
        case lines.Reject():
            failure = f" as {node.failure}" if node.failure else ""
            rule = f" {'unless' if node.unless else 'when'} {expression(node.rule)}" if node.rule is not None else ""
            return f"reject {quoted(node.reason)}{failure}{rule}"
        case lines.Stamp():
            return f"stamp {expression(node.value)}"
        case lines.Device():
            return f"device {expression(node.value)}"
        case lines.Length():
            return f"length {'at least ' if node.least else ''}{expression(node.low)}" + (
                f" to {expression(node.high)}" if node.high else ""
            )
        case lines.Skip():
            word = "bits" if node.bits else "byte" if node.count == 1 else "bytes"
            return f"skip {_amount(node.count)} {word}"
        case lines.Records():
            region = f"bytes {node.first} to {node.last}, " if node.first is not None else ""
            return (
                f"records {region}tag {_storage(node.tag)}, size {_storage(node.size)}"
                f"{'' if node.filler is None else f', filler {_byte(node.filler)}'}{', once' if node.once else ''}"
            )
        case lines.Hand():
            return (
                f"decode {_address(node.region)}{f' as {node.encoding}' if node.encoding else ''} with"
                f" {', '.join(name for name, _ in node.decoders)}"
            )
        case lines.Constant():
            return f"constant {node.name} {node.kind}{f' {node.unit}' if node.unit else ''} = {_literal(node.value)}"
        case lines.Table():
            points = [f"{x} {y}" for x, y in node.points]
            return braced(f"table {node.name}{f' to {node.unit}' if node.unit else ''}", points, node.at)
        case lines.Origin():
            return f"origin {expression(node.value)}"
        case lines.Columns():
            return f"columns by {quoted(node.by)}"
        case lines.Pattern():
            return f"pattern {quoted(node.text)}"
        case lines.FrameLine():
            return f"frame {_framing(node.framing)}"
    raise AssertionError(node)


def _count(count: lines.Count) -> str:
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
            rest, strict = "rest " * count.framing.rest, " strict" * count.framing.strict
            return f"{rest}frames {_framing(count.framing)}{strict}"
        case "parameter":
            where = f"at {_path(count.paths[0])} " if count.paths else ""
            return f"{where}over {count.name} {count.first} to {count.last} times"
    return "lines"


def _byte(number: int) -> str:
    return f"0x{number:02X}"


def _framing(framing: lines.Framing) -> str:
    escape = f" escape {_byte(framing.escape)} xor {_byte(framing.xor or 0)}" if framing.escape is not None else ""
    return f"from {_byte(framing.start)} to {_byte(framing.end)}{escape}"


def _amount(count: int | tree.Expr) -> str:
    if isinstance(count, int):
        return str(count)
    return count.name if isinstance(count, tree.Name) else f"({expression(count)})"


def _option(option: lines.Option) -> str:
    if option.kind == "number":
        return option.low + (f" to {option.high}" if option.high is not None else "")
    return quoted(option.low) if option.kind == "text" else f"`{option.low}`"


def _literal(node: lines.Literal) -> str:
    return quoted(node.word) if node.kind == "text" else node.word


def _path(path: lines.Path) -> str:
    text, before = "", None  # two numbers beside each other would be one with a point
    for step in path:
        match step:
            case lines.Index():
                text += f"[{step.number}]"
            case lines.Keyed():
                text += f"[{step.key} = {quoted(step.value) if isinstance(step.value, str) else step.word}]"
            case _:
                numbers = isinstance(step, int) and isinstance(before, int)
                text += (" ." if numbers else "." if text else "") + (
                    step
                    if isinstance(step, str) and _is_name(step)
                    else quoted(step)
                    if isinstance(step, str)
                    else str(step)
                )
        before = step
    return text or "."


def _address(node: lines.Address) -> str:
    match node:
        case lines.InBytes():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return where + bits_text(node.bits)
        case lines.InNext():
            width = "" if node.width is None else " byte" if node.width == 1 else f" {_amount(node.width)} bytes"
            return "next" + width + bits_text(node.bits)
        case lines.InStream():
            return "next bits"
        case lines.InRest():
            return "rest"
        case lines.InSame():
            return "same" + bits_text(node.bits)
        case lines.InRegister():
            where = f"register {node.first}" if node.last is None else f"registers {node.first} to {node.last}"
            return where + bits_text(node.bits)
        case lines.InCoil():
            return f"coil {node.number}"
        case lines.InRecord():
            return f"record {node.tag}"
        case lines.InDocument():
            return "at " + ", ".join(_path(path) for path in node.paths)
        case lines.InColumn():
            return f"column {node.first}" + (f" to {node.last}" if node.last is not None else "")
        case lines.InGroup():
            return f"group {node.name}"
        case lines.InHeader():
            return f"header {node.name}"
        case lines.InTopic():
            return f"topic {node.level}"
        case lines.Nowhere():
            return "parameter"


def _scales(scales: tuple[lines.Scale, ...]) -> str:
    return "".join(f" {scale.sign} {scale.number}" for scale in scales)


def _stored(storage: lines.Storage | str) -> str:
    return storage if isinstance(storage, str) else _storage(storage)


def _storage(storage: lines.Storage) -> str:
    name = f"unsigned {storage.low} to {storage.high} bytes" if storage.name == "unsigned" else storage.name
    return (
        name
        + (f" {storage.order}" if storage.order else "")
        + (f" {storage.words} word first" if storage.words else "")
    )


def _kind(node: lines.Kind) -> str:
    match node:
        case lines.Stored():
            return _storage(node.storage) + _scales(node.scales)
        case lines.Flag():
            return "flag present" if node.present else "flag inverted" if node.inverted else "flag"
        case lines.Codes():
            texts = [
                f"{low if low == high else f'{low} to {high}'} {text if _is_name(text) else quoted(text)}"
                for low, high, text in node.ranges
            ]
            if node.other is not None:
                texts.append(f"otherwise {node.other if _is_name(node.other) else quoted(node.other)}")
            return braced("code" + (f" {_storage(node.storage)}" if node.storage else ""), texts, node.at)
        case lines.PositionKind():
            return "position " + ", ".join(
                ("number" if part is None else _storage(part)) + _scales(scales) for part, scales in node.parts
            )
        case lines.Clock():
            stored = "number" if node.storage is None else _storage(node.storage)
            return f"time {stored} {node.unit} since {quoted(node.since)}{' wrapping' if node.wrapping else ''}"
        case lines.Calendar():
            zone = "" if node.zone is None else f" local {node.zone if node.zone_name else quoted(node.zone)}"
            zone = f"{'' if node.century is None else f' century {node.century}'}{zone}"
            return f"time {node.form} {quoted(node.pattern)}{zone}{f' again {node.again}' if node.again else ''}"
        case lines.Plain(word="iso" | "tagged"):
            return f"time {node.word}"
        case lines.Plain():
            way = f" {node.form}" if node.form == lines.EITHER else f" from {node.form}" if node.form else ""
            return node.word + way + _scales(node.scales)


def _unit(unit: str | lines.UnitBy | None) -> str:
    if not isinstance(unit, lines.UnitBy):
        return unit or ""
    arms = ", ".join(f"{arm.word}{_scales(arm.scales)} {arm.unit}" for arm in unit.arms)
    arms += ", otherwise as written" if unit.written else ""
    return f"by {unit.name} {{ {arms} }}{' as sent' if unit.sent else ''}"


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


def _fate(node: lines.Missing) -> str:
    if node.fate == "missing":
        return f"missing {quoted(node.reason)}"
    return node.fate + (f" as {node.failure}" if node.failure else "")


def _qualifier(node: lines.Qualifier) -> str:
    match node:
        case lines.Within(times=True):
            return f"within {quoted(node.low)} to {quoted(node.high)}"
        case lines.Within():
            return f"within {node.low} to {node.high}"
        case lines.Missing(when=None):
            raws = ", ".join(_mark(raw, word) for raw, word in zip(node.raws, node.raw_words, strict=True))
            return f"{_fate(node)} raw {raws}"
        case lines.Missing():
            assert node.when is not None
            return f"{_fate(node)} when {expression(node.when)}"
        case lines.Into():
            return f"into {node.unit}"
        case lines.Word():
            return node.word
        case lines.Required():
            return "required" + (f" as {node.failure}" if node.failure else "")
        case lines.Stamped():
            return f"stamped {expression(node.value)}"
        case lines.Default():
            return f"default {_literal(node.value)}"
        case lines.Words():
            return "words { " + ", ".join(f"{quoted(text)} {number}" for text, number in node.numbers) + " }"
        case lines.After():
            return f"after {quoted(node.text)}"
        case lines.Sized():
            most = f" to {node.most}" if node.most is not None else ""
            return f"size {node.count}{most} byte{'s' if most or node.count > 1 else ''}"
        case lines.OneOf():
            return "one of " + ", ".join(quoted(text) for text in node.texts)
