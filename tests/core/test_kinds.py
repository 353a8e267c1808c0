"""Kinds of definitions: one more is one object; every keyword is a name; a text that was published reads as it did."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from lark import v_args

from oculum.language import definitions
from oculum.language.build import Build, span_of
from oculum.language.checking import Checker, Scope, type_of
from oculum.language.conditions.syntax import SYNTAX as CONDITIONS
from oculum.language.decoders import check_decoder
from oculum.language.decoders.syntax import SYNTAX as DECODERS
from oculum.language.decoders.syntax import keywords
from oculum.language.fields import FieldSpec
from oculum.language.form import Form, FormLine
from oculum.language.kinds import Kind, Surroundings
from oculum.language.parser import Syntax, _words, read
from oculum.language.printing import Row, expression
from oculum.language.problems import DefinitionError, Problem
from oculum.language.routes.syntax import SYNTAX as ROUTES

PUBLISHED = Path(__file__).resolve().parent.parent / "published"


@v_args(meta=True)
class NoteBuild(Build):
    def note(self, m: Any, c: list[Any]) -> tuple[Any, str, list[Any]]:
        return span_of(m), str(c[0]), list(c[1:])

    def about(self, m: Any, c: list[Any]) -> Any:
        return c[0]


NOTES = Syntax(
    "note", "note NAME", 'note: "note" NAME _NL _INDENT about+ _DEDENT\nabout: "about" expr _NL\n', NoteBuild
)


def check_note(text: str, around: Surroundings) -> tuple[Any, list[Problem]]:
    try:
        node, problems, poisoned = read(text, NOTES)
    except DefinitionError as error:
        return None, error.problems
    checker = Checker(problems, poisoned)
    scope = Scope({n: type_of(s) for fields in around.fields.values() for n, s in fields.items()}, "the note")
    plan = [checker.typed(rule, scope) for rule in node[2]]
    return (None if checker.failed else plan), checker.problems


def rows(node: Any) -> list[Row]:
    return [(node[0].line, "", [f"note {node[1]}"])] + [
        (e.span.line, "  ", [f"about {expression(e)}"]) for e in node[2]
    ]


def form(node: Any, row: FormLine) -> Form | None:
    return Form("What it is about", row.line, (row.rest("value", "about"),)) if row.line > 1 else None


@pytest.fixture
def notes() -> Iterator[None]:
    """A kind that nothing in the product knows of."""
    definitions.KINDS.add(Kind(NOTES, check_note, rows, form))
    yield
    definitions.KINDS.remove("note")


def test_another_kind_is_one_object(notes: None) -> None:
    around = Surroundings({"buoy": {"water_temp": FieldSpec("water_temp", "number", "Cel")}})
    text = "note warm\n    about   water_temp>20 Cel\n    about water_temp\n"
    plan, problems = definitions.check(text, around)
    assert plan is not None and len(plan) == 2 and not problems
    laid_out = definitions.format_definition(text)
    assert laid_out == "note warm\n  about water_temp > 20 Cel\n  about water_temp\n"
    found = definitions.form(text, 2)
    assert found is not None and found.slots[0].text == "water_temp>20 Cel"
    _, problems = definitions.check("note n\n  about water_temp >\n  about\n  about water_temp\n", around)
    assert [p.span.line for p in problems] == [2, 3], "each faulty line once, and the rest is read"
    with pytest.raises(DefinitionError, match="`decoder` or `route` or `condition` or `note`"):
        definitions.kind_of("wish x\n")
    assert not check_decoder("decoder d for bytes\n  byte 0  note  u8\n")[1], "its words are no words elsewhere"


# Words that mean something in every expression; a field can be called so, but no rule can speak of it.
OPERATORS = {"if", "not", "true", "false", "setpoint"}
# What every decoder knows by itself: a field of that name would hide it.
OWN = {"stamp", "received", "index"}


@pytest.mark.parametrize("word", sorted(keywords() - OWN))
def test_every_keyword_is_the_name_of_a_field(word: str) -> None:
    texts = [
        f"decoder d for bytes\n  byte 0  {word}  u8\n",
        f"decoder d for bytes\n  next  {word}  u8 / 10  V\n",
        f"decoder d for bytes\n  byte 0 bits 7 to 4  {word}  u4\n",
        f"decoder d for json\n  at x.y  {word}  number\n",
        f'decoder d for text\n  columns by ","\n  column 2  {word}  number\n',
    ]
    if word not in OPERATORS:
        texts += [
            f"decoder d for bytes\n  byte 0  {word}  u8\n  derive twice = 2 * {word} + {word}\n",
            f"decoder d for bytes\n  byte 0  {word}  u8\n  when {word} = 1\n    byte 1  x  u8\n",
        ]
    for text in texts:
        plan, problems = check_decoder(text)
        assert plan is not None, (text, problems)
        assert word in {f.name for f in plan.all_fields}
        again = definitions.format_definition(text)
        assert definitions.format_definition(again) == again and check_decoder(again)[0] is not None


def test_messages_never_show_the_names_of_tokens() -> None:
    for syntax in (DECODERS, CONDITIONS, ROUTES):
        for token, word in _words(syntax.name, syntax.grammar).items():
            if token.startswith("__"):
                continue  # blanks
            assert word.startswith("`") or " " in word or word == "null", f"{token} has no word for people"
            assert "_" not in word, f"{token} is shown as {word}"
            assert "\\" not in word and "(?" not in word, f"{token} is shown as a pattern: {word}"


def meaning(text: str) -> list[Any]:
    """What a text says, in plain words: fields with their units; or what is watched, and how long."""
    kind = definitions.kind_of(text)
    if kind.name == "decoder":
        plan, problems = check_decoder(text, others=beside, published=True)
        assert plan is not None, problems
        return [[f.name, f.kind, f.unit] for f in plan.all_fields]
    node, problems, _ = read(text, kind.syntax)
    assert not problems
    return [node.name, node.priority, [definitions.KINDS["condition"].rows(node)[k][2][0] for k in range(1, 3)]]


def beside(name: str) -> Any:
    return check_decoder((PUBLISHED / "1" / f"{name}.ocu").read_text())[0]


@pytest.mark.parametrize("path", sorted(PUBLISHED.glob("*/*.ocu")), ids=lambda p: f"{p.parent.name}/{p.name}")
def test_a_published_text_means_what_it_meant(path: Path) -> None:
    """Versions never change: what was sound in its edition is sound, says the same, and is laid out as it was."""
    text = path.read_text()
    meant = json.loads((path.parent / "meaning.json").read_text())
    assert meaning(text) == meant[path.name]
    assert definitions.format_definition(text) == text


def test_mistakes_that_were_not_told_apart_are_mistakes_in_drafts() -> None:
    text = (PUBLISHED / "2" / "careless.ocu").read_text()
    plan, problems = check_decoder(text)
    assert plan is None
    assert [(p.span.line, p.message) for p in problems] == [
        (2, "`once` is for records: it refuses a second one"),
        (4, "`padded` takes blanks and zeros off the end of text and hex"),
    ]
