"""How a text is laid out, and expressions in it, with only the brackets they need."""

from __future__ import annotations

from . import tree
from .build import quoted

PRECEDENCE = {"or": 1, "and": 2, "not": 3, "compare": 4, "+": 5, "-": 5, "*": 6, "/": 6, "minus": 7, "^": 8}
GAP = "  "
WIDEST = 28  # cells beyond, such as long codes, push no others to the right
Row = tuple[int, str, list[str]]  # line, indent, cells


class Spread(str):
    """A cell whose entries stand in rows of their own, as they were written: (line, text). As a text it is its head."""

    rows: list[tuple[int, str]]


def braced(head: str, entries: list[str], at: tuple[int, ...]) -> str:
    """Entries between braces, on one line, or in rows where they were written so. at: the line of the head, then of
    each entry; empty where that is not known.
    """
    if len(set(at[1:]) | set(at[:1])) < 2:
        return f"{head} {{ {', '.join(entries)} }}"
    found = Spread(f"{head} {{")
    found.rows = []
    for index, (line, entry) in enumerate(zip(at[1:], entries, strict=True)):
        text = entry + ("," if index < len(entries) - 1 else "")
        if found.rows and found.rows[-1][0] == line:
            found.rows[-1] = line, f"{found.rows[-1][1]} {text}"
        else:
            found.rows.append((line, text))
    return found


def comments(text: str) -> tuple[dict[int, str], dict[int, str]]:
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


def laid_out(rows: list[Row], own: dict[int, str], behind: dict[int, str]) -> str:
    widths = _widths(rows)
    lines: list[str] = []
    waiting = sorted(own)
    done_behind: set[int] = set()
    for index, (line, indent, cells) in enumerate(rows):
        while waiting and waiting[0] < line:
            lines.append(indent + own[waiting.pop(0)])
        text = indent + GAP.join(cell.ljust(width) for cell, width in zip(cells, widths[index], strict=True)).rstrip()
        following = rows[index + 1][0] if index + 1 < len(rows) else 10**9
        spread = next((k for k, cell in enumerate(cells) if isinstance(cell, Spread)), None)
        if spread is not None:
            head = [cell.ljust(width) for cell, width in zip(cells[:spread], widths[index], strict=False)]
            starts = [*(row for row, _ in cells[spread].rows), following]  # type: ignore[attr-defined]
            notes = _notes(behind, line, starts[0], done_behind)
            lines.append((indent + GAP.join([*head, cells[spread]])).rstrip() + notes)
            for k, (row, entries) in enumerate(cells[spread].rows):  # type: ignore[attr-defined]
                while waiting and waiting[0] < row:
                    lines.append(indent + GAP + own[waiting.pop(0)])
                last = row + 1 if k == len(starts) - 2 else starts[k + 1]
                lines.append(indent + GAP + entries + _notes(behind, row, last, done_behind))
            text = indent + GAP.join(["}", *(cell for cell in cells[spread + 1 :] if cell)])
        lines.append(text + _notes(behind, line, following, done_behind))
    lines += [own[k] for k in waiting]
    return "\n".join(lines) + "\n"


def _notes(behind: dict[int, str], first: int, last: int, done: set[int]) -> str:
    """The comments behind what stands on lines from `first` to before `last`, each once."""
    found = [k for k in sorted(behind) if first <= k < last and k not in done]
    done.update(found)
    return GAP + " ".join(behind[k] for k in found) if found else ""


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
            own = [rows[i][2][column] for i in group if column < len(rows[i][2])]
            lengths = [len(cell) for cell in own if not isinstance(cell, Spread)]
            width = max((length for length in lengths if length <= WIDEST), default=0)
            for i in group:
                if column < len(found[i]):
                    found[i][column] = width
        start = end
    return found


def bits_text(bits: tree.Bits | None) -> str:
    if bits is None:
        return ""
    return f" bit {bits.high}" if bits.single else f" bits {bits.high} to {bits.low}"


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
        case tree.ByteRange(so_far=True):
            return "bytes so far"
        case tree.ByteRange():
            if node.until is not None:
                end = node.until.name if isinstance(node.until, tree.Name) else f"({expression(node.until)})"
                return f"bytes {node.first} to {end}"
            return f"{'registers' if node.registers else 'bytes'} {node.first} to {node.last}"
        case tree.Call():
            return f"{node.function}({', '.join(expression(a) for a in node.arguments)})"
        case tree.ReadAt(register=True):
            return f"{_stored(node)} at register {node.first}"
        case tree.ReadAt():
            where = f"byte {node.first}" if node.last is None else f"bytes {node.first} to {node.last}"
            return f"{_stored(node)} at {where}{bits_text(node.bits)}"
        case tree.Choice():
            return bracketed(
                f"if {expression(node.rule)} then {expression(node.then)} else {expression(node.otherwise)}", 0
            )
        case tree.Unary(sign="-"):
            return bracketed(f"-{expression(node.value, 7)}", 7)
        case tree.Unary(sign="not"):
            return bracketed(f"not {expression(node.value, 3)}", 3)
        case tree.Unary(sign=sign):
            return bracketed(f"{expression(node.value, 5)} {sign}", 4)
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


def _stored(node: tree.ReadAt) -> str:
    words = f" {node.words} word first" if node.words else ""
    return f"{node.storage}{' ' + node.order if node.order else ''}{words}"
