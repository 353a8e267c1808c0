"""Text to tree. Every syntax error names what stood there and what could have stood there.

A text is read once. A faulty line is set aside: the parser goes back to where the line began and reads on behind it.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cache
from hashlib import sha256
from pathlib import Path
from typing import Any

from lark import Lark, Token, Tree, UnexpectedCharacters, UnexpectedInput, UnexpectedToken
from lark.indenter import Indenter
from lark.lexer import PatternStr

from . import limits, saying
from .build import Build
from .problems import DefinitionError, Problem, Span

# What tokens without a text of their own are called.
WORDS = {
    "NAME": "a name",
    "TEMPLATE": "a name with a value in it",
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
    "PRIORITY": "critical, high, medium or low",
    "NULL": "null",
    "$END": "the end",
}
COMMON = (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
# A keyword that stands where only a name can: its first letter is moved here while the line is read.
NAMED = {letter: chr(0xE000 + letter) for letter in range(ord("a"), ord("z") + 1)}
PLAIN = {ord(moved): chr(letter) for letter, moved in NAMED.items()}
Opening = tuple[tuple[str, str], ...]  # tokens: type and text


def _as_is(line: str) -> str:
    return line


def _nothing(following: str) -> Opening:
    return ()


@dataclass(frozen=True)
class Syntax:
    """How texts of one kind are read.

    grammar: beside the common one; its first rule has the kind's name. opening: tokens of a line that stands for a
    faulty one with a block below it, by the line that follows; none where the block is set aside as well. filler:
    tokens of a line that does nothing, for a block of which nothing is left. prepared: a line in which keywords that
    stand where only a name can are marked as names, of the same length.
    """

    name: str
    beginning: str
    grammar: str
    build: type[Build]
    opening: Callable[[str], Opening] = _nothing
    filler: Opening = ()
    prepared: Callable[[str], str] = _as_is


def named(word: str) -> str:
    """A keyword marked as a name."""
    return NAMED[ord(word[0])] + word[1:]


def unmarked(word: str) -> str:
    return word.translate(PLAIN)


class _Blocks(Indenter):
    """Lines and blocks are told apart by the reader itself; what is used of this are the types."""

    NL_type = "_NL"
    OPEN_PAREN_types = ["LBRACE", "LPAR"]
    CLOSE_PAREN_types = ["RBRACE", "RPAR"]
    INDENT_type = "_INDENT"
    DEDENT_type = "_DEDENT"
    tab_len = 8


@cache
def _lark(name: str, grammar: str) -> Lark:
    """The parser of a grammar. To work out its tables takes most of a second: they are kept beside the compiled code,
    where a folder can be written.
    """
    whole = grammar + COMMON
    folder = Path(__file__).parent / "__pycache__"
    kept = folder / f"{name}-{sha256(whole.encode()).hexdigest()[:16]}.tables"
    return Lark(
        whole,
        parser="lalr",
        lexer="contextual",
        postlex=_Blocks(),
        start=[name],
        propagate_positions=True,
        maybe_placeholders=True,
        cache=str(kept) if os.access(folder, os.W_OK) else False,  # one that is not whole is made anew
    )


@cache
def _words(name: str, grammar: str) -> dict[str, str]:
    """Every token of a grammar as people call it."""
    found = dict(WORDS)
    for terminal in _lark(name, grammar).terminals:
        if terminal.name not in found and isinstance(terminal.pattern, PatternStr):
            found[terminal.name] = f"`{terminal.pattern.value}`"
        found.setdefault(terminal.name, "`" + terminal.pattern.value.replace("(?:", "").strip("()") + "`")
    return found


def _could(error: UnexpectedInput, words: dict[str, str]) -> set[str]:
    """What may stand where a text cannot be read, in words."""
    names = getattr(error, "expected", None) or getattr(error, "accepts", None) or getattr(error, "allowed", None) or ()
    return {words[name] for name in names if name in words}


def guard(text: str) -> None:
    """Bounds that hold before a parser sees the text. Raises DefinitionError."""
    if len(text) > limits.SOURCE_CHARACTERS:
        raise DefinitionError(
            [
                Problem(
                    f"the text has {len(text)} characters; at most {limits.SOURCE_CHARACTERS} are taken", Span(1, 1, 2)
                )
            ]
        )
    depth, said = 0, 1
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
        if any(_strange(c) for c in line):
            raise DefinitionError([Problem("found a control or direction character: remove it", Span(index, 1, 2))])
        if _indent(line) // 2 > limits.BLOCK_DEPTH + 1 and _says(line):
            message = f"blocks nest at most {limits.BLOCK_DEPTH} deep: this one is too many"
            raise DefinitionError([Problem(message, Span(said, 1, 2))])
        said = index if _says(line) else said


def _strange(c: str) -> bool:
    return (
        ord(c) < 32
        or 0x7F <= ord(c) < 0xA0
        or 0xD800 <= ord(c) < 0xF900  # half characters, and those for private use
        or c in "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f\u061c\u2028\u2029"
    )


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip(" "))


def _says(line: str) -> bool:
    return bool(line.strip()) and not line.lstrip().startswith("#")


def broken_words(line: str) -> set[str]:
    """Names that a line with a syntax error may have defined."""
    return set(re.findall(r"[a-z][a-z0-9_]*", line))


def first_word(text: str) -> tuple[str, Span]:
    """The word that a text begins with, and where; an empty one where there is nothing. Raises DefinitionError."""
    text = text.replace("\r\n", "\n")
    guard(text)
    for index, line in enumerate(text.split("\n"), 1):
        if _says(line):
            word = line.split(" ")[0]
            return word or " ", Span(index, 1, len(word) + 1)
    return "", Span(1, 1, 2)


def read(text: str, syntax: Syntax, published: bool = False) -> tuple[Any, list[Problem], set[str]]:
    """The tree of a definition, its syntax errors, and names the faulty lines may define.

    A faulty line is set aside and the rest is read on. Words that nothing parts are a mistake, unless the text has been
    published. Raises DefinitionError when nothing can be read.
    """
    word, span = first_word(text)
    if word != syntax.name:
        shown = f"found `{word}`" if word else "the text is empty"
        raise DefinitionError([Problem(f"{shown}: a {syntax.name} begins with `{syntax.beginning}`", span)])
    reading = _Reading(text.replace("\r\n", "\n").split("\n"), syntax, published)
    parsed = reading.run()
    try:
        return syntax.build().transform(parsed), reading.problems, reading.names
    except Exception as error:
        original = getattr(error, "orig_exc", error)
        if not isinstance(original, (ValueError, RecursionError)):
            raise
        line = getattr(getattr(getattr(error, "obj", None), "meta", None), "line", 1)
        raise DefinitionError([*reading.problems, Problem(str(original), Span(line, 1, 2))]) from None


class _Joined(Exception):
    """Two words that nothing parts."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.message)
        self.problem = problem


class _Reading:
    """One reading of a text: tokens to the parser, lines and blocks by their indentation."""

    def __init__(self, lines: list[str], syntax: Syntax, published: bool) -> None:
        self.lines = lines
        self.published = published
        self.end = -1  # where the last word ended
        self.syntax = syntax
        self.words = _words(syntax.name, syntax.grammar)
        prepared = [syntax.prepared(line) if _says(line) else line for line in lines]
        self.begins = [0]  # where each line begins in the text
        for line in prepared:
            self.begins.append(self.begins[-1] + len(line) + 1)
        interactive = _lark(syntax.name, syntax.grammar).parse_interactive("\n".join(prepared) + "\n", syntax.name)
        self.state = interactive.parser_state
        self.lexer: Any = interactive.lexer_thread.lexer.lexer  # type: ignore[attr-defined]
        self.place: Any = interactive.lexer_thread.state
        self.problems: list[Problem] = []
        self.names: set[str] = set()
        self.levels = [0]
        self.brackets = 0
        self.line = 0  # index of the line that is being read
        self.begun = 0  # the same, also at the end of the text
        self.kept: tuple[list[Any], list[Any]] | None = None  # the parser as it was where this line began
        first = next(i for i, line in enumerate(lines) if _says(line))
        self._go_to(first)
        self.line = self.begun = first

    # the loop -----------------------------------------------------------------------
    def run(self) -> Any:
        """The parse tree. Raises DefinitionError."""
        while True:
            try:
                for token in self._tokens():
                    self._take(token)
                return self._end()
            except (UnexpectedInput, _Joined) as error:
                self._set_aside(error)

    def _tokens(self) -> Iterator[Token]:
        yield from self.lexer.lex(self.place, self.state)

    def _take(self, token: Token) -> None:
        if token.type == "_NL":
            if not self.brackets:
                self._next_line(token)
            return
        if token.start_pos == self.end and not self.published:
            problem = saying.joined(self.lines[(token.line or 1) - 1], token.column or 1)
            if problem is not None:
                raise _Joined(replace(problem, span=replace(problem.span, line=token.line or 1)))
        self.end = token.end_pos or -1
        self.state.feed_token(token)
        self.brackets += (token.type in _Blocks.OPEN_PAREN_types) - (token.type in _Blocks.CLOSE_PAREN_types)

    def _next_line(self, token: Token) -> None:
        """Ends a line: what stands between it and the one before has been read, blocks open and close."""
        self.state.feed_token(token)
        self._keep()
        following = self._following(self.line_of(token))
        if following is None:
            return
        self.line = self.begun = following
        indent = _indent(self.lines[following])
        if indent > self.levels[-1]:
            self.state.feed_token(Token.new_borrow_pos("_INDENT", "", token))
            self.levels.append(indent)
        self._close(indent, token)
        self._keep()

    def _close(self, indent: int, token: Token) -> None:
        """Ends the blocks that a line of this indentation is outside of."""
        while indent < self.levels[-1]:
            if "_DEDENT" not in self._accepted():
                self._fill(token)
            self.state.feed_token(Token.new_borrow_pos("_DEDENT", "", token))
            self.levels.pop()
        if indent > self.levels[-1]:
            self.problems.append(
                Problem("the indentation matches no block above it", Span(self.line + 1, 1, max(indent, 1) + 1))
            )
            self.levels[-1] = indent  # read as a line of the block that it comes nearest to

    def _end(self) -> Any:
        token = Token("_NL", "\n", 0, len(self.lines), 1, len(self.lines), 1)
        self.line = len(self.lines) - 1
        self._close(0, token)
        try:
            return self.state.feed_token(Token.new_borrow_pos("$END", "", token), True)
        except UnexpectedInput as error:
            if not self.problems:
                self.problems.append(self._problem(error))
            raise DefinitionError(self.problems) from None

    # after a mistake ------------------------------------------------------------------
    def _set_aside(self, error: UnexpectedInput | _Joined) -> None:
        """Records a mistake and goes on behind the line in which it stands. Raises DefinitionError where none can."""
        problem = error.problem if isinstance(error, _Joined) else self._problem(error)
        indented = isinstance(error, UnexpectedToken) and error.token.type == "_INDENT"
        closing = isinstance(error, UnexpectedToken) and error.token.type == "_DEDENT"
        if not closing or not self.problems:
            self.problems.append(problem)
        if self.kept is None or closing or len(self.problems) >= limits.ERRORS_SHOWN:
            raise DefinitionError(self.problems)
        self.state.state_stack[:], self.state.value_stack[:] = self.kept[0], self.kept[1]
        self.brackets = 0
        line = self.line
        level = self.levels[-1]
        self.names |= broken_words(self.lines[line])
        if indented:  # the block below no line: all of it is set aside
            line -= 1
            opening: Opening = ()
        else:
            following = self._following(line + 1)
            opens = following is not None and _indent(self.lines[following]) > level
            opening = self.syntax.opening(self.lines[following].strip()) if opens and following is not None else ()
        if opening and self._opened(opening):
            self._go_to(self._after(line))
            return
        behind = self._following(line + 1)
        while behind is not None and _indent(self.lines[behind]) > level:
            self.names |= broken_words(self.lines[behind])
            behind = self._following(behind + 1)
        self._keep()
        if behind is None:
            self._go_to(len(self.lines))
            return
        self.line = behind
        try:
            self._close(_indent(self.lines[behind]), Token("_NL", "\n", 0, behind + 1, 1, behind + 1, 1))
        except UnexpectedInput:  # the definition has ended already: nothing can stand behind it
            raise DefinitionError(self.problems) from None
        self._keep()
        self._go_to(behind)

    def _fill(self, token: Token) -> None:
        """Puts a line that does nothing into a block of which nothing is left."""
        if self.problems and self.syntax.filler:
            try:
                self._feed(self.syntax.filler)
                self.state.feed_token(Token.new_borrow_pos("_NL", "\n", token))
            except UnexpectedInput:
                raise DefinitionError(self.problems) from None

    def _opened(self, opening: Opening) -> bool:
        """Begins a block in place of the line that was set aside, where one can stand."""
        self._keep()
        try:
            self._feed(opening)
        except UnexpectedInput:
            assert self.kept is not None
            self.state.state_stack[:], self.state.value_stack[:] = self.kept
            return False
        return True

    def _feed(self, tokens: Opening) -> None:
        for kind, text in tokens:
            self.state.feed_token(Token(kind, text, 0, self.line + 1, 1, self.line + 1, 2))

    def _keep(self) -> None:
        """Remembers the parser as it is. Lists of parts are grown in place, so that they are copied."""
        values = [
            Tree(v.data, list(v.children), v.meta) if isinstance(v, Tree) else list(v) if isinstance(v, list) else v
            for v in self.state.value_stack
        ]
        self.kept = list(self.state.state_stack), values

    def _accepted(self) -> set[str]:
        return set(self.state.parse_conf.states[self.state.position])

    # places -----------------------------------------------------------------------------
    def line_of(self, token: Token) -> int:
        """The index of the first line behind a token that ends lines."""
        return (token.line or 1) - 1 + 1

    def _following(self, index: int) -> int | None:
        """The first line that says something, from `index` on."""
        return next((i for i in range(index, len(self.lines)) if _says(self.lines[i])), None)

    def _after(self, line: int) -> int:
        """Where the lexer goes on behind a line of which only the end counts: at that end."""
        return -(line + 1)

    def _go_to(self, line: int) -> None:
        """Moves the lexer to the first letter of a line, or (below 0) to the end of one."""
        counter = self.place.line_ctr
        if line < 0:
            index = -line - 1
            counter.line, counter.line_start_pos = index + 1, self.begins[index]
            counter.char_pos = self.begins[index + 1] - 1
        else:
            index = min(line, len(self.lines))
            counter.line, counter.line_start_pos = index + 1, self.begins[min(index, len(self.begins) - 1)]
            counter.char_pos = counter.line_start_pos + (_indent(self.lines[index]) if index < len(self.lines) else 0)
        counter.column = counter.char_pos - counter.line_start_pos + 1
        self.place.last_token = None

    def _problem(self, error: UnexpectedInput) -> Problem:
        could = _could(error, self.words)
        ends = isinstance(error, UnexpectedToken) and error.token.type in ("_NL", "_DEDENT", "$END")
        at = max(getattr(error, "line", 0) or self.line + 1, self.begun + 1)
        brackets = saying.unclosed(self.lines, self.begun + 1, min(at, len(self.lines))) if self.brackets else []
        if brackets and (ends or at > brackets[-1][1].line):  # what stands further down was read as part of this line
            return saying.not_closed(*brackets[-1])
        expected = saying.expected(could, [letter for letter, _ in brackets])
        if isinstance(error, UnexpectedToken):
            token = error.token
            if ends:
                end = len(self.lines[self.line].split("#")[0].rstrip()) + 1
                return Problem(f"the line ends too early{expected}", Span(self.line + 1, end, end + 1))
            if token.type == "_INDENT":
                return Problem("this line is indented, but no block begins above it", Span(self.line + 1, 1, 2))
            shown, line, column = unmarked(str(token)), token.line or 1, token.column or 1
            if could == {self.words["$END"]} and column == 1:
                return Problem(
                    f"this line is not indented: what belongs to the {self.syntax.name} stands further in than its"
                    " first line",
                    Span(line, 1, len(shown) + 1),
                )
            what = saying.found(shown, self.words.get(token.type, ""))
        else:
            assert isinstance(error, UnexpectedCharacters)
            line, column = error.line, error.column
            rest = self.lines[line - 1][column - 1 :] if line <= len(self.lines) else ""
            word = re.match(r"[A-Za-z0-9_]+|.?", rest)
            shown = word[0] if word else ""
            what = f"`{shown}`"
        if line <= len(self.lines):
            slip = saying.slip(self.lines[line - 1], column, shown, could)
            if slip is not None:
                return replace(slip, span=replace(slip.span, line=line))
        return Problem(f"found {what}{expected}", Span(line, column, column + max(len(shown), 1)))
