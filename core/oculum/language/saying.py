"""What is said of a text where it cannot be read: the likeliest that was meant, in words, never a whole list."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from ..quantities import is_unit, usual
from .problems import Problem, Span, nearest

END = "the end of the line"
FEW = 4  # expectations beside those that are told together


def _words(text: str) -> list[str]:
    return [f"`{word}`" for word in text.split()]


LINES = _words(
    "derive reject when choose repeat apart open records decode constant table origin columns pattern command frame"
    " stamp device length skip missing byte bytes next rest same register registers coil column group header topic"
    " record at parameter text"
)
VALUES = [
    *_words("( - true false setpoint length if not"),
    *("a code text in backticks", "a name", "a name with a value in it", "a number", "a storage such as u16"),
    "a text in quotes",
]
STORED = [
    *_words("code flag hex integer number position text time varint signed unsigned zigzag , ="),
    "a storage such as u16",
]
OPERATORS = ["`*` or `/`", "`+` or `-`", "a comparison", *_words("^ and or in is")]
CLAUSES = _words(
    "within missing into hidden required after decimal default difference nearest once padded stamped words size by big"
    " little low high"
)
# What is told together: how many of its words must be possible, the words, and what is said.
TOGETHER = (
    (6, LINES, "a line such as `byte 3  level  u8`, `derive sum = a + b` or `when sum > 3`"),
    (6, VALUES, "a value such as `level`, `3.5 m` or `(a + b)`"),
    (5, STORED, "how it is stored, such as `u16 / 10`, `flag` or `code { 0 off, 1 on }`"),
    (3, OPERATORS, "an operator such as `+` or `=`"),
    (4, CLAUSES, "a clause such as `within 0 to 5` or `hidden`"),
)
SIGNS = {"=>": ">=", "=<": "<=", "==": "=", "&&": "and", "||": "or", "<>": "!="}
BRACKETS = {")": "(", "}": "{"}


def expected(words: Collection[str], open_brackets: Collection[str] = ()) -> str:
    """A tail for a message: what could stand there."""
    rest = {word for word in words if word.strip("`") not in BRACKETS or BRACKETS[word.strip("`")] in open_brackets}
    told: list[str] = []
    for least, group, saying in TOGETHER:
        if len(rest & set(group)) >= least:
            told.append(saying)
            rest -= set(group)
    if told and not open_brackets:
        rest.discard("`,`")
    end = [END] if END in rest else []
    others = sorted(rest - {END})
    told += (others if len(others) <= FEW else others[: FEW - 1]) + end
    if told == ["a unit"]:
        return ": expected a unit behind the number, such as `min` or `m`"
    if not told:
        return ""
    return ": expected " + (", ".join(told[:-1]) + " or " + told[-1] if len(told) > 1 else told[0])


def unclosed(lines: Sequence[str], first: int, last: int) -> list[tuple[str, Span]]:
    """Brackets that are open behind line `last`, of those opened from line `first` on (counted from 1)."""
    found: list[tuple[str, Span]] = []
    for number in range(first, last + 1):
        bare = re.sub(r'"(?:[^"\\]|\\.)*"|`[^`]+`|#.*', lambda m: " " * len(m[0]), lines[number - 1])
        bare = re.sub(r"[\w.]*\{[^\s{}]+\}[\w]*", lambda m: " " * len(m[0]), bare)  # names and units in braces
        for column, letter in enumerate(bare, 1):
            if letter in "({":
                found.append((letter, Span(number, column, column + 1)))
            elif letter in BRACKETS and found and found[-1][0] == BRACKETS[letter]:
                found.pop()
    return found


def not_closed(letter: str, span: Span) -> Problem:
    return Problem(f"`{')' if letter == '(' else '}'}` is missing: this `{letter}` is not closed", span)


def joined(line: str, column: int) -> Problem | None:
    """What was read as two words and is written as one. column: from 1, where the second begins."""
    first = re.search(r"[A-Za-z_]\w*\Z", line[: column - 1], re.ASCII)
    second = re.match(r"\w+", line[column - 1 :], re.ASCII)
    if first is None or second is None:
        return None
    whole, place = first[0] + second[0], Span(0, first.start() + 1, column + len(second[0]))
    if nearest(whole, [first[0]]) and len(first[0]) > len(second[0]):
        return Problem(f"found `{whole}`: did you mean `{first[0]}`?", place, fix=first[0])
    return Problem(
        f"`{whole}` is read as two words: write `{first[0]} {second[0]}`", place, fix=f"{first[0]} {second[0]}"
    )


def slip(line: str, column: int, shown: str, could: Collection[str]) -> Problem | None:
    """A mistake of which it is clear what was meant. column: from 1, where `shown` stands; could: what may stand
    there.
    """
    rest, number = line[column - 1 :], len(shown)
    for begin in (column - 2, column - 1):
        sign = SIGNS.get(line[max(begin, 0) : begin + 2])
        if sign:
            wrong = line[begin : begin + 2]
            return Problem(f"`{wrong}` is written `{sign}`", Span(0, begin + 1, begin + 3), fix=sign)
    if rest.startswith('"'):
        odd = re.match(r'"(?:[^"\\]|\\["\\ntr])*(\\[^"\\ntr])', rest)
        if odd:
            at = column + odd.start(1)
            return Problem(
                f'`{odd[1]}` means nothing in a text: there are `\\"`, `\\\\`, `\\n`, `\\t` and `\\r`; a backslash'
                " itself is written twice",
                Span(0, at, at + 2),
                fix=f"\\{odd[1]}",
            )
        if not re.match(r'"(?:[^"\\]|\\.)*"', rest):
            return Problem('the text is not closed: `"` is missing', Span(0, column, column + 1))
    parted = joined(line, column)
    if parted is None and re.fullmatch(r"[A-Za-z]\w*", shown, re.ASCII):
        parted = joined(line, column + number)
    if parted is not None:
        return parted
    written = re.search(r"\S+\Z", line[: column - 1])
    begin = written.start() if written else column - 1
    word = re.match(r"[^\s#,)]*", line[begin:])[0]  # type: ignore[index]
    code = usual(word) if not word.isascii() or word.startswith("1/") or word == "%RH" else None
    if code is not None:
        return Problem(f"`{word}` is written `{code}`", Span(0, begin + 1, begin + 1 + len(word)), fix=code)
    if shown.lower() == "rh" and line[: column - 1].rstrip().endswith("%"):
        return Problem("relative humidity is written `%` alone", Span(0, column, column + number))
    if not re.fullmatch(r"[A-Za-z][A-Za-z0-9_]*", shown):
        return None
    place = Span(0, column, column + number)
    keywords = [word.strip("`") for word in could if re.fullmatch(r"`[a-z]+`", word)]
    if re.fullmatch(r"[ui]\d+|f\d+", shown) and "a storage such as u16" in could:
        sizes = "16, 32 or 64" if shown[0] == "f" else "1 to 64"
        return Problem(f"`{shown}` is no storage: `{shown[0]}` has {sizes} bits", place)
    close = nearest(shown.lower(), keywords)
    if close is not None and (len(shown) > 3 or close == shown.lower()):
        return Problem(f"found `{shown}`: did you mean `{close}`?", place, fix=close)
    if "a name" in could and shown != shown.lower():
        return Problem(f"names are lower case: `{shown.lower()}`?", place, fix=shown.lower())
    return None


def found(shown: str, word: str) -> str:
    """What stands there, with what it is where that says more."""
    if word == "a unit":
        word = word if is_unit(shown) else ""
    return f"`{shown}`" + (f" ({word})" if word and not word.startswith("`") else "")


__all__ = ["expected", "found", "joined", "not_closed", "slip", "unclosed"]
