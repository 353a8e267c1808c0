"""One layout for every definition. Comments stay; parse(format(x)) equals parse(x) but for places."""

from __future__ import annotations

from collections.abc import Iterable

from . import tree
from .parser import parse, quoted
from .problems import DefinitionError

PRECEDENCE = {"or": 1, "and": 2, "not": 3, "compare": 4, "+": 5, "-": 5, "*": 6, "/": 6, "minus": 7, "^": 8}
GAP = "  "


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
    own, behind = _comments(text)
    rows: list[tuple[int, str, list[str]]] = []  # line, indent, cells
    if isinstance(node, tree.Decoder):
        order = f", {node.order} endian" if node.order else ""
        rows.append((node.span.line, "", [f"decoder {node.name} for {node.source}{order}"]))
        _body(node.body, "  ", rows)
    else:
        rows.append((node.span.line, "", [f"condition {quoted(node.name)} priority {node.priority}"]))
        for clause in node.clauses:
            rows.append((clause.span.line, "  ", [_clause(clause)]))
    return _laid_out(rows, own, behind)


def _laid_out(rows: list[tuple[int, str, list[str]]], own: dict[int, str], behind: dict[int, str]) -> str:
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


def _widths(rows: list[tuple[int, str, list[str]]]) -> list[list[int]]:
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
            width = max(len(rows[i][2][column]) for i in group if column < len(rows[i][2]))
            for i in group:
                if column < len(found[i]):
                    found[i][column] = width
        start = end
    return found


def _body(statements: Iterable[tree.Statement], indent: str, rows: list[tuple[int, str, list[str]]]) -> None:
    for node in statements:
        line = node.span.line
        match node:
            case tree.Read():
                cells = [_address(node.address), node.name, _kind(node.kind), node.unit or "", " ".join(_qualifier(q) for q in node.qualifiers)]
                while cells and not cells[-1]:
                    cells.pop()
                rows.append((line, indent, cells))
            case tree.Derive():
                tail = "".join(" " + _qualifier(q) for q in node.qualifiers)
                rows.append((line, indent, [f"derive {node.name} = {expression(node.value)}{tail}"]))
            case tree.Reject():
                failure = f" as {node.failure}" if node.failure else ""
                word = "unless" if node.unless else "when"
                rows.append((line, indent, [f"reject {quoted(node.reason)}{failure} {word} {expression(node.rule)}"]))
            case tree.Stamp():
                rows.append((line, indent, [f"stamp {expression(node.value)}"]))
            case tree.Length():
                high = f" to {expression(node.high)}" if node.high else ""
                rows.append((line, indent, [f"length {expression(node.low)}{high}"]))
            case tree.Skip():
                rows.append((line, indent, [f"skip {node.count} bytes"]))
            case tree.When():
                rows.append((line, indent, [f"when {expression(node.rule)}"]))
                _body(node.body, indent + "  ", rows)
                if node.otherwise:
                    rows.append((node.otherwise[0].span.line, indent, ["otherwise"]))
                    _body(node.otherwise, indent + "  ", rows)
            case tree.Repeat():
                count = "to end" if node.times is None else f"{expression(node.times)} times" + (f" up to {node.most}" if node.most else "")
                each = f", each {node.each[0]} {node.each[1]} {node.each[2]}" if node.each else ""
                rows.append((line, indent, [f"repeat {count}{each}"]))
                _body(node.body, indent + "  ", rows)


def _bits(bits: tree.Bits | None) -> str:
    if bits is None:
        return ""
    return f" bit {bits.high}" if bits.single else f" bits {bits.high} to {bits.low}"


def _step(step: str | int, first: bool) -> str:
    if isinstance(step, int):
        return f"[{step}]"
    plain = step[:1].islower() and step.isascii() and all(c.islower() or c.isdigit() or c == "_" for c in step)
    return ("" if first else ".") + (step if plain else quoted(step))


def _address(node: tree.Address) -> str:
    match node:
        case tree.InBytes():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return where + _bits(node.bits)
        case tree.InNext():
            return "next" + (f" {node.width} bytes" if node.width else "") + _bits(node.bits)
        case tree.InSame():
            return "same" + _bits(node.bits)
        case tree.InDocument():
            return "at " + ", ".join("".join(_step(step, i == 0) for i, step in enumerate(path)) for path in node.paths)


def _scales(scales: tuple[tree.Scale, ...]) -> str:
    return "".join(f" {scale.sign} {scale.number}" for scale in scales)


def _kind(node: tree.Kind) -> str:
    given = node.order if isinstance(node, tree.Stored | tree.Codes | tree.Clock) else None
    order = f" {given}" if given else ""
    match node:
        case tree.Stored():
            return node.storage + order + _scales(node.scales)
        case tree.Flag():
            return "flag"
        case tree.Codes():
            texts = ", ".join(f"{number} {text if _is_name(text) else quoted(text)}" for number, text in node.texts)
            return "code" + (f" {node.storage}" if node.storage else "") + order + " { " + texts + " }"
        case tree.PositionKind():
            return "position " + ", ".join(part + _scales(scales) for part, scales in node.parts)
        case tree.Clock():
            return f"time {node.storage}{order} {node.unit} since {quoted(node.since)}"
        case tree.Plain():
            return ("time iso" if node.word == "iso" else node.word) + _scales(node.scales)


def _is_name(text: str) -> bool:
    return bool(text) and text[0].isalpha() and text.islower() and text.isascii() and all(c.isalnum() or c == "_" for c in text)


def _qualifier(node: tree.Qualifier) -> str:
    match node:
        case tree.Within():
            return f"within {node.low} to {node.high}"
        case tree.Missing(when=None):
            raws = ", ".join(quoted(raw) if isinstance(raw, str) else word for raw, word in zip(node.raws, node.raw_words, strict=True))
            return f"missing {quoted(node.reason)} raw {raws}"
        case tree.Missing():
            assert node.when is not None
            return f"missing {quoted(node.reason)} when {expression(node.when)}"
        case tree.Into():
            return f"into {node.unit}"
        case tree.Word():
            return node.word


def _clause(node: tree.Clause) -> str:
    match node:
        case tree.On():
            labels = ", ".join(f"label {name} {sign} {quoted(text)}" for name, sign, text in node.labels)
            return f"on {node.device_type}" + (f" with {labels}" if labels else "")
        case tree.Raise():
            band = f" deadband {node.deadband.number}{' ' + node.deadband.unit if node.deadband.unit else ''}" if node.deadband else ""
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
            return f"bytes {node.first} to {node.last}"
        case tree.Call():
            return f"{node.function}({', '.join(expression(a) for a in node.arguments)})"
        case tree.ReadAt():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return f"{node.storage}{' ' + node.order if node.order else ''} at {where}{_bits(node.bits)}"
        case tree.Choice():
            return bracketed(f"if {expression(node.rule)} then {expression(node.then)} else {expression(node.otherwise)}", 0)
        case tree.Unary(sign="-"):
            return bracketed(f"-{expression(node.value, 7)}", 7)
        case tree.Unary(sign="not"):
            return bracketed(f"not {expression(node.value, 3)}", 3)
        case tree.Unary():
            return bracketed(f"{expression(node.value, 5)} is missing", 4)
        case tree.Power():
            return bracketed(f"{expression(node.value, 9)} ^ {node.exponent}", 8)
        case tree.Membership():
            return bracketed(f"{expression(node.value, 5)} in {{ {', '.join(expression(o) for o in node.options)} }}", 4)
        case tree.Binary():
            level = PRECEDENCE.get(node.sign, 4)
            left, right = (5, 5) if level == 4 else (level, level + 1)
            return bracketed(f"{expression(node.left, left)} {node.sign} {expression(node.right, right)}", level)
