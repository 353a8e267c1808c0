"""Text to tree. Every syntax error names what stood there and what could have stood there."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any

from lark import Lark, UnexpectedCharacters, UnexpectedInput, UnexpectedToken
from lark.indenter import DedentError, Indenter

from . import limits, tree
from .build import Build
from .problems import DefinitionError, Problem, Span

WORDS = {
    "NAME": "a name",
    "NUMBER": "a number",
    "STRING": "a text in quotes",
    "UNIT": "a unit",
    "CODE": "a code text in backticks",
    "STORAGE": "a storage such as u16",
    "_NL": "the end of the line",
    "_INDENT": "an indented block",
    "_DEDENT": "the end of the block",
    "COMPARE": "a comparison",
    "SCALE_SIGN": "a scale (`* / + -`)",
    "PLUS_MINUS": "`+` or `-`",
    "TIMES_OVER": "`*` or `/`",
    "MINUS": "`-`",
    "PRIORITY": "critical, high, medium or low",
    "LPAR": "`(`",
    "RPAR": "`)`",
    "LBRACE": "`{`",
    "RBRACE": "`}`",
    "COMMA": "a comma",
    "EQUAL": "`=`",
    "EQUALS": "`=`",
    "UNEQUALS": "`!=`",
    "DOT": "a dot",
    "LSQB": "`[`",
    "RSQB": "`]`",
    "CIRCUMFLEX": "`^`",
    "$END": "the end",
}


_ONE_AT_A_TIME = Lock()  # the reader of blocks keeps its place in itself


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


def _expected(error: UnexpectedInput) -> str:
    names = set(
        getattr(error, "expected", None) or getattr(error, "accepts", None) or getattr(error, "allowed", None) or ()
    )
    words = sorted({WORDS.get(name, f"`{name.lower()}`") for name in names if not name.startswith("__")})
    if len(words) > 7:
        words = words[:7] + ["..."]
    return (
        ""
        if not words
        else ": expected " + (", ".join(words[:-1]) + " or " + words[-1] if len(words) > 1 else words[0])
    )


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
        return Problem(
            f"found {shown}{_expected(error)}",
            Span((token.line or 1) + shift, token.column or 1, (token.column or 1) + max(len(token), 1)),
        )
    if isinstance(error, UnexpectedCharacters):
        found = lines[error.line - 1][error.column - 1 : error.column] if error.line <= len(lines) else ""
        word = re.match(r"[A-Za-z0-9_]+", lines[error.line - 1][error.column - 1 :]) if found else None
        shown = word.group(0) if word else found
        return Problem(
            f"found `{shown}`{_expected(error)}",
            Span(error.line + shift, error.column, error.column + max(len(shown), 1)),
        )
    return Problem("the indentation matches no block above it", Span(shift + 1, 1, 2))


def _guard(text: str) -> None:
    """Bounds that hold before a parser sees the text. Raises DefinitionError."""
    if len(text) > limits.SOURCE_CHARACTERS:
        raise DefinitionError(
            [
                Problem(
                    f"the text has {len(text)} characters; at most {limits.SOURCE_CHARACTERS} are taken", Span(1, 1, 2)
                )
            ]
        )
    depth = 0
    for index, line in enumerate(text.split("\n"), 1):
        if "\t" in line:
            column = line.index("\t") + 1
            raise DefinitionError(
                [Problem("found a tab: indent with blanks", Span(index, column, column + 1), fix="  ")]
            )
        if len(line) > limits.LINE_CHARACTERS:
            raise DefinitionError(
                [
                    Problem(
                        f"the line has {len(line)} characters; at most {limits.LINE_CHARACTERS} are taken",
                        Span(index, 1, 2),
                    )
                ]
            )
        bare = re.sub(r'"(?:[^"\\\n]|\\["\\])*"|`[^`\n]+`|#.*', "", line)
        deepest = depth
        for bracket in re.findall(r"[()]", bare):  # brackets may stay open over lines
            depth = max(depth + (1 if bracket == "(" else -1), 0)
            deepest = max(deepest, depth)
        if deepest + len(re.findall(r"\bnot\b|\bif\b|-\s*(?=-)", bare)) > limits.EXPRESSION_DEPTH:
            raise DefinitionError(
                [Problem(f"expressions nest at most {limits.EXPRESSION_DEPTH} deep", Span(index, 1, 2))]
            )
        if any(
            ord(c) < 32
            or 0x7F <= ord(c) < 0xA0
            or 0xD800 <= ord(c) < 0xE000
            or c in "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f\u061c\u2028\u2029"
            for c in line
        ):
            raise DefinitionError([Problem("found a control or direction character: remove it", Span(index, 1, 2))])
        if (
            (len(line) - len(line.lstrip(" "))) // 2 > limits.BLOCK_DEPTH + 1
            and line.strip()
            and not line.lstrip().startswith("#")
        ):
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
        raise DefinitionError(
            [
                Problem(
                    'the text is empty: begin with `decoder NAME for bytes` or `condition "name" priority high`',
                    Span(1, 1, 2),
                )
            ]
        )
    first = lines[0].split(" ")[0]
    if first not in ("decoder", "condition"):
        raise DefinitionError(
            [
                Problem(
                    f"found `{first or ' '}`: a definition begins with `decoder` or `condition`",
                    Span(shift + 1, 1, len(first) + 1),
                )
            ]
        )
    problems: list[Problem] = []
    names: set[str] = set()
    for _ in range(limits.ERRORS_SHOWN):
        try:
            with _ONE_AT_A_TIME:
                parsed = _lark().parse("\n".join(lines) + "\n", start=first)
            found = Build().transform(parsed)
            return _shifted(found, shift), problems, names
        except (UnexpectedInput, DedentError) as error:
            problem = _syntax_problem(error, lines, shift)
            if problems and (index := _emptied(lines, all_lines[shift:], problem.span.line - 1 - shift)) is not None:
                if index == 0:
                    raise DefinitionError(problems) from None
                lines[index] = ""
                continue
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


def _emptied(lines: list[str], before: list[str], index: int) -> int | None:
    """The line that begins a block of which nothing is left, because its lines are set aside: the one at `index`, or
    the next above.
    """
    written = [i for i in range(index + 1) if lines[i].strip() and not lines[i].lstrip().startswith("#")]
    return next((i for i in reversed(written[-2:]) if _left(lines, before, i) == 0), None)


def _left(lines: list[str], before: list[str], index: int) -> int | None:
    """How many lines are left in the block below a line; None if there never was one."""
    indent = len(lines[index]) - len(lines[index].lstrip(" "))
    found: int | None = None
    for now, then in zip(lines[index + 1 :], before[index + 1 :], strict=True):
        if not then.strip() or then.lstrip().startswith("#"):
            continue
        if len(then) - len(then.lstrip(" ")) <= indent:
            break
        found = (found or 0) + bool(now.strip())
    return found


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
