"""Text to tree. Every syntax error names what stood there and what could have stood there."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from typing import Any

from lark import Lark, Token, Transformer, UnexpectedCharacters, UnexpectedInput, UnexpectedToken, v_args
from lark.indenter import DedentError, Indenter

from . import limits, tree
from .problems import DefinitionError, Problem, Span

WORDS = {
    "NAME": "a name", "NUMBER": "a number", "STRING": "a text in quotes", "UNIT": "a unit", "CODE": "a code text in backticks",
    "STORAGE": "a storage such as u16", "_NL": "the end of the line", "_INDENT": "an indented block", "_DEDENT": "the end of the block",
    "COMPARE": "a comparison", "SCALE_SIGN": "a scale (`* / + -`)", "PLUS_MINUS": "`+` or `-`", "TIMES_OVER": "`*` or `/`",
    "MINUS": "`-`", "PRIORITY": "critical, high, medium or low", "LPAR": "`(`", "RPAR": "`)`", "LBRACE": "`{`", "RBRACE": "`}`",
    "COMMA": "a comma", "EQUAL": "`=`", "EQUALS": "`=`", "UNEQUALS": "`!=`", "DOT": "a dot", "LSQB": "`[`", "RSQB": "`]`",
    "CIRCUMFLEX": "`^`", "$END": "the end",
}  # fmt: skip


class _Blocks(Indenter):
    NL_type = "_NL"
    OPEN_PAREN_types = ["LBRACE", "LPAR"]
    CLOSE_PAREN_types = ["RBRACE", "RPAR"]
    INDENT_type = "_INDENT"
    DEDENT_type = "_DEDENT"
    tab_len = 8


@cache
def _lark() -> Lark:
    grammar = (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
    return Lark(
        grammar,
        parser="lalr",
        lexer="contextual",
        postlex=_Blocks(),
        start=["decoder", "condition"],
        propagate_positions=True,
        maybe_placeholders=True,
    )


def _span(meta: Any) -> Span:
    if getattr(meta, "line", None) is None:
        return Span(1, 1, 2)
    end = meta.end_column if meta.end_line == meta.line else meta.column + 1
    return Span(meta.line, meta.column, max(end, meta.column + 1))


def _token_span(token: Token) -> Span:
    line, column = token.line or 1, token.column or 1
    return Span(line, column, column + max(len(token), 1))


def number(text: str) -> int | float:
    """The value of a number as written: hexadecimal, binary, decimal."""
    if text.lower().startswith("0x"):
        return int(text, 16)
    if text.startswith("0b"):
        return int(text, 2)
    return float(text) if any(c in text for c in ".eE") else int(text)


def _unquoted(token: str) -> str:
    return re.sub(r'\\(["\\])', r"\1", token[1:-1])


def quoted(text: str) -> str:
    """`text` as a string of the language."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _whole(text: str) -> int:
    value = number(str(text))
    if isinstance(value, float):
        raise ValueError(f"{text} is not a whole number")
    return value


@v_args(meta=True)
class _Build(Transformer[Token, Any]):
    """Lark's tree to ours."""

    def source(self, m: Any, c: list[Any]) -> str:
        return str(c[0])

    order = source
    direction = source
    when_word = source
    unless_word = source

    def failure(self, m: Any, c: list[Any]) -> str:
        return " ".join(str(word) for word in c)

    def signed(self, m: Any, c: list[Any]) -> str:
        return ("-" if c[0] else "") + str(c[1])

    place = exponent = signed

    def decoder(self, m: Any, c: list[Any]) -> tree.Decoder:
        return tree.Decoder(_token_span(c[0]), str(c[0]), c[1], c[2], tuple(c[3:]))

    def read(self, m: Any, c: list[Any]) -> tree.Read:
        address, name, kind, unit, *rest = c
        return tree.Read(
            _span(m), address, str(name), _token_span(name), kind,
            str(unit) if unit else None, _token_span(unit) if unit else None, tuple(rest),
        )  # fmt: skip

    def derive(self, m: Any, c: list[Any]) -> tree.Derive:
        return tree.Derive(_span(m), str(c[0]), _token_span(c[0]), c[1], tuple(c[2:]))

    def reject(self, m: Any, c: list[Any]) -> tree.Reject:
        return tree.Reject(_span(m), _unquoted(c[0]), c[1], c[2] == "unless", c[3])

    def stamp(self, m: Any, c: list[Any]) -> tree.Stamp:
        return tree.Stamp(_span(m), c[0])

    def length(self, m: Any, c: list[Any]) -> tree.Length:
        return tree.Length(_span(m), c[0], c[1])

    def skip(self, m: Any, c: list[Any]) -> tree.Skip:
        return tree.Skip(_span(m), _whole(c[0]))

    def otherwise(self, m: Any, c: list[Any]) -> tuple[tree.Statement, ...]:
        return tuple(c)

    def when(self, m: Any, c: list[Any]) -> tree.When:
        return tree.When(_span(m), c[0], tuple(c[1:-1]), c[-1] or ())

    def to_end(self, m: Any, c: list[Any]) -> tuple[None, None]:
        return None, None

    def times(self, m: Any, c: list[Any]) -> tuple[tree.Expr, int | None]:
        return c[0], _whole(c[1]) if c[1] else None

    def repeat(self, m: Any, c: list[Any]) -> tree.Repeat:
        (times, most), amount, unit, direction, *body = c
        each = (str(amount), str(unit), direction) if amount else None
        return tree.Repeat(_span(m), times, most, each, tuple(body))

    def bytes_at(self, m: Any, c: list[Any]) -> tuple[int, int | None]:
        return _whole(c[0]), _whole(c[1]) if len(c) > 1 else None

    def bits(self, m: Any, c: list[Any]) -> tree.Bits:
        if len(c) == 1:
            return tree.Bits(_whole(c[0]), _whole(c[0]), True)
        return tree.Bits(max(_whole(c[0]), _whole(c[1])), min(_whole(c[0]), _whole(c[1])), False)

    def in_bytes(self, m: Any, c: list[Any]) -> tree.InBytes:
        return tree.InBytes(_span(m), c[0][0], c[0][1], c[1])

    def in_next(self, m: Any, c: list[Any]) -> tree.InNext:
        return tree.InNext(_span(m), _whole(c[0]) if c[0] else None, c[1])

    def in_same(self, m: Any, c: list[Any]) -> tree.InSame:
        return tree.InSame(_span(m), c[0])

    def step(self, m: Any, c: list[Any]) -> str:
        return _unquoted(c[0]) if c[0].type == "STRING" else str(c[0])

    def path(self, m: Any, c: list[Any]) -> tuple[str | int, ...]:
        return tuple(_whole(step) if isinstance(step, Token) else step for step in c)

    def in_document(self, m: Any, c: list[Any]) -> tree.InDocument:
        return tree.InDocument(_span(m), tuple(path for path in c if path))

    def scale(self, m: Any, c: list[Any]) -> tree.Scale:
        return tree.Scale(str(c[0]), c[1])

    def stored(self, m: Any, c: list[Any]) -> tree.Stored:
        return tree.Stored(_span(m), str(c[0]), c[1], tuple(c[2:]))

    def flag(self, m: Any, c: list[Any]) -> tree.Flag:
        return tree.Flag(_span(m))

    def code(self, m: Any, c: list[Any]) -> tuple[int, str]:
        return _whole(c[0]), _unquoted(c[1]) if c[1].type == "STRING" else str(c[1])

    def codes(self, m: Any, c: list[Any]) -> tree.Codes:
        return tree.Codes(_span(m), str(c[0]) if c[0] else None, c[1], tuple(c[2:]))

    def part(self, m: Any, c: list[Any]) -> tuple[str, tuple[tree.Scale, ...]]:
        if c and isinstance(c[0], Token):
            return str(c[0]), tuple(c[1:])
        return "number", tuple(c)

    def position(self, m: Any, c: list[Any]) -> tree.PositionKind:
        return tree.PositionKind(_span(m), tuple(c))

    def clock(self, m: Any, c: list[Any]) -> tree.Clock:
        return tree.Clock(_span(m), str(c[0]), c[1], str(c[2]), _unquoted(c[3]))

    def iso_time(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(_span(m), "iso")

    def number(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(_span(m), "number", tuple(c))

    def integer(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(_span(m), "integer", tuple(c))

    def text(self, m: Any, c: list[Any]) -> tree.Plain:
        return tree.Plain(_span(m), "text")

    def within(self, m: Any, c: list[Any]) -> tree.Within:
        return tree.Within(_span(m), c[0], c[1])

    def missing(self, m: Any, c: list[Any]) -> tree.Missing:
        reason, *rest = c
        if len(rest) == 1 and isinstance(rest[0], tree.Node):
            rule: Any = rest[0]
            return tree.Missing(_span(m), _unquoted(reason), (), (), rule)
        raws = tuple(_unquoted(r) if isinstance(r, Token) else number_signed(r) for r in rest)
        return tree.Missing(_span(m), _unquoted(reason), raws, tuple(str(r) for r in rest), None)

    def converted(self, m: Any, c: list[Any]) -> tree.Into:
        return tree.Into(_span(m), str(c[0]))

    def hidden(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(_span(m), "hidden")

    def required(self, m: Any, c: list[Any]) -> tree.Word:
        return tree.Word(_span(m), "required")

    # expressions
    def _chain(self, m: Any, c: list[Any], sign: str) -> tree.Expr:
        found = c[0]
        for right in c[1:]:
            found = tree.Binary(_span(m), sign, found, right)
        return found

    def either(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "or")

    def both(self, m: Any, c: list[Any]) -> tree.Expr:
        return self._chain(m, c, "and")

    def negation(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(_span(m), "not", c[0])

    def comparison(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Binary(_span(m), str(c[1]), c[0], c[2]) if c[1] else c[0]

    def membership(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Membership(_span(m), c[0], tuple(c[1:]))

    def is_missing(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(_span(m), "is missing", c[0])

    def _pairs(self, m: Any, c: list[Any]) -> tree.Expr:
        found = c[0]
        for sign, right in zip(c[1::2], c[2::2], strict=True):
            found = tree.Binary(_span(m), str(sign), found, right)
        return found

    sum = _pairs
    product = _pairs

    def minus(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Unary(_span(m), "-", c[1])

    def power(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Power(_span(m), c[0], c[1]) if c[1] else c[0]

    def quantity(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Quantity(_span(m), str(c[0]), str(c[1]) if c[1] else None, _token_span(c[1]) if c[1] else None)

    def string(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.String(_span(m), _unquoted(c[0]))

    def code_text(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.CodeText(_span(m), str(c[0])[1:-1])

    def true(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(_span(m), True)

    def false(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Truth(_span(m), False)

    def setpoint(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Setpoint(_span(m), str(c[0]))

    def payload_length(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.PayloadLength(_span(m))

    def name(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Name(_span(m), str(c[0]))

    def call(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Call(_span(m), str(c[0]), tuple(a for a in c[1:] if a is not None))

    def byte_range(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ByteRange(_span(m), _whole(c[0]), _whole(c[1]))

    def read_at(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.ReadAt(_span(m), str(c[0]), c[1], c[2][0], c[2][1], c[3])

    def choice(self, m: Any, c: list[Any]) -> tree.Expr:
        return tree.Choice(_span(m), c[0], c[1], c[2])

    # conditions
    def label(self, m: Any, c: list[Any]) -> tuple[str, str, str]:
        return str(c[0]), str(c[1]), _unquoted(c[2])

    def on(self, m: Any, c: list[Any]) -> tree.On:
        return tree.On(_token_span(c[0]), str(c[0]), tuple(label for label in c[1:] if label))

    def held(self, m: Any, c: list[Any]) -> tree.Held:
        return tree.Held(_span(m), str(c[0]), str(c[1]))

    def raise_(self, m: Any, c: list[Any]) -> tree.Raise:
        rule, amount, unit, held = c
        deadband = tree.Deadband(_token_span(amount), str(amount), str(unit) if unit else None) if amount else None
        return tree.Raise(_span(m), rule, deadband, held)

    def clear(self, m: Any, c: list[Any]) -> tree.Clear:
        return tree.Clear(_span(m), c[0], c[1])

    def say(self, m: Any, c: list[Any]) -> tree.Say:
        return tree.Say(_span(m), _unquoted(c[0]))

    def condition(self, m: Any, c: list[Any]) -> tree.Condition:
        return tree.Condition(_token_span(c[0]), _unquoted(c[0]), str(c[1]), tuple(c[2:]))


setattr(_Build, "raise", _Build.raise_)


def number_signed(text: str) -> int | float:
    """The value of a number as written, with an optional sign before it."""
    return -number(text[1:]) if text.startswith("-") else number(text)


def _expected(error: UnexpectedInput) -> str:
    names = set(getattr(error, "expected", None) or getattr(error, "accepts", None) or getattr(error, "allowed", None) or ())
    words = sorted({WORDS.get(name, f"`{name.lower()}`") for name in names if not name.startswith("__")})
    if len(words) > 7:
        words = words[:7] + ["..."]
    return "" if not words else ": expected " + (", ".join(words[:-1]) + " or " + words[-1] if len(words) > 1 else words[0])


def _syntax_problem(error: Exception, lines: list[str], shift: int) -> Problem:
    if isinstance(error, UnexpectedToken):
        token = error.token
        if token.type == "$END" or token.type in ("_NL", "_DEDENT"):
            line = min(token.line or len(lines), len(lines))
            end = len(lines[line - 1].split("#")[0].rstrip()) + 1
            return Problem(f"the line ends too early{_expected(error)}", Span(line + shift, end, end + 1))
        if token.type == "_INDENT":
            line = min((token.line or 1) + 1, len(lines))
            return Problem("this line is indented, but no block begins above it", Span(line + shift, 1, 2))
        found = WORDS.get(token.type, "")
        shown = f"`{token}`" + (f" ({found})" if found and not found.startswith("`") else "")
        return Problem(f"found {shown}{_expected(error)}", Span((token.line or 1) + shift, token.column or 1, (token.column or 1) + max(len(token), 1)))
    if isinstance(error, UnexpectedCharacters):
        found = lines[error.line - 1][error.column - 1 : error.column] if error.line <= len(lines) else ""
        word = re.match(r"[A-Za-z0-9_]+", lines[error.line - 1][error.column - 1 :]) if found else None
        shown = word.group(0) if word else found
        return Problem(f"found `{shown}`{_expected(error)}", Span(error.line + shift, error.column, error.column + max(len(shown), 1)))
    return Problem("the indentation matches no block above it", Span(shift + 1, 1, 2))


def _guard(text: str) -> None:
    """Bounds that hold before a parser sees the text. Raises DefinitionError."""
    if len(text) > limits.SOURCE_CHARACTERS:
        raise DefinitionError([Problem(f"the text has {len(text)} characters; at most {limits.SOURCE_CHARACTERS} are taken", Span(1, 1, 2))])
    depth = 0
    for index, line in enumerate(text.split("\n"), 1):
        if "\t" in line:
            column = line.index("\t") + 1
            raise DefinitionError([Problem("found a tab: indent with blanks", Span(index, column, column + 1), fix="  ")])
        if len(line) > limits.LINE_CHARACTERS:
            raise DefinitionError([Problem(f"the line has {len(line)} characters; at most {limits.LINE_CHARACTERS} are taken", Span(index, 1, 2))])
        bare = re.sub(r'"(?:[^"\\\n]|\\["\\])*"|`[^`\n]+`|#.*', "", line)
        deepest = depth
        for bracket in re.findall(r"[()]", bare):  # brackets may stay open over lines
            depth = max(depth + (1 if bracket == "(" else -1), 0)
            deepest = max(deepest, depth)
        if deepest + len(re.findall(r"\bnot\b|\bif\b|-\s*(?=-)", bare)) > limits.EXPRESSION_DEPTH:
            raise DefinitionError([Problem(f"expressions nest at most {limits.EXPRESSION_DEPTH} deep", Span(index, 1, 2))])
        if any(ord(c) < 32 or 0x7F <= ord(c) < 0xA0 or c in "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f" for c in line):
            raise DefinitionError([Problem("found a control or direction character: remove it", Span(index, 1, 2))])
        if (len(line) - len(line.lstrip(" "))) // 2 > limits.BLOCK_DEPTH + 1 and line.strip() and not line.lstrip().startswith("#"):
            raise DefinitionError([Problem(f"blocks nest at most {limits.BLOCK_DEPTH} deep", Span(index, 1, 2))])


def broken_words(line: str) -> set[str]:
    """Names that a line with a syntax error may have defined."""
    return set(re.findall(r"[a-z][a-z0-9_]*", line))


def parse(text: str) -> tuple[tree.Definition, list[Problem], set[str]]:
    """The tree of a definition, its syntax errors, and names the faulty lines may define.

    A faulty line is set aside and the rest is read on. Raises DefinitionError when nothing can be read.
    """
    text = text.replace("\r\n", "\n")
    _guard(text)
    all_lines = text.split("\n")
    shift = 0
    while shift < len(all_lines) and (not all_lines[shift].strip() or all_lines[shift].lstrip().startswith("#")):
        shift += 1
    lines = all_lines[shift:]
    if not lines:
        raise DefinitionError([Problem('the text is empty: begin with `decoder NAME for bytes` or `condition "name" priority high`', Span(1, 1, 2))])
    first = lines[0].split(" ")[0]
    if first not in ("decoder", "condition"):
        raise DefinitionError([Problem(f"found `{first or ' '}`: a definition begins with `decoder` or `condition`", Span(shift + 1, 1, len(first) + 1))])
    problems: list[Problem] = []
    names: set[str] = set()
    for _ in range(limits.ERRORS_SHOWN):
        try:
            parsed = _lark().parse("\n".join(lines) + "\n", start=first)
            found = _Build().transform(parsed)
            return _shifted(found, shift), problems, names
        except (UnexpectedInput, DedentError) as error:
            problem = _syntax_problem(error, lines, shift)
            if isinstance(error, DedentError):
                problem = Problem(problem.message, Span(_dedent_line(lines) + shift, 1, 2))
            problems.append(problem)
            index = problem.span.line - 1 - shift
            line = lines[index]
            if index == 0 or not line.strip():
                raise DefinitionError(problems) from None
            names |= broken_words(line)
            indent = line[: len(line) - len(line.lstrip(" "))]
            follows = next((rest for rest in lines[index + 1 :] if rest.strip()), "")
            opens = len(follows) - len(follows.lstrip(" ")) > len(indent)
            if opens and first == "decoder":
                replacement = f"{indent}when true"
            else:
                replacement = "" if not opens else indent
            before = lines[index]
            lines[index] = replacement
            if before == replacement:
                raise DefinitionError(problems) from None
        except Exception as error:
            original = getattr(error, "orig_exc", error)
            if not isinstance(original, (ValueError, RecursionError)):
                raise
            line_number = getattr(getattr(getattr(error, "obj", None), "meta", None), "line", 1)
            problems.append(Problem(str(original), Span(line_number + shift, 1, 2)))
            raise DefinitionError(problems) from None
    raise DefinitionError(problems)


def _dedent_line(lines: list[str]) -> int:
    levels = [0]
    for index, line in enumerate(lines, 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        indent = len(line) - len(line.lstrip(" "))
        if indent > levels[-1]:
            levels.append(indent)
        while indent < levels[-1]:
            levels.pop()
        if indent != levels[-1]:
            return index
    return 1


def _shifted(node: Any, shift: int) -> Any:
    """The same tree, its lines moved down by `shift`."""
    if shift == 0:
        return node
    if isinstance(node, Span):
        return Span(node.line + shift, node.column, node.end_column)
    if isinstance(node, tuple):
        return tuple(_shifted(part, shift) for part in node)
    if hasattr(node, "__dataclass_fields__"):
        return type(node)(*(_shifted(getattr(node, field), shift) for field in node.__dataclass_fields__))
    return node
