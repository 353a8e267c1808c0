"""What the checker says: one mistake, one sentence, with its place and where possible the fix."""

from __future__ import annotations

import pytest

from oculum.language.decoders import check_decoder
from oculum.language.fields import FieldSpec

HEAT = {"heat": FieldSpec("heat", "number", "[degF]")}

WARNINGS = [
    ("  byte 0  a  u16\n  byte 1  b  u8\n", 3, "`b` reads bits of byte 1 that `a` has read already", None),
    ("  length 4\n  byte 0  a  u16\n", 1, "no line reads bytes 2, 3", None),
    (
        "  byte 0  a  u8 / 10  V  within 0 to 500\n",
        2,
        "u8 says 0 to 25.5 here: the range 0 to 500 goes beyond it",
        None,
    ),
    (
        "  byte 0  a  u8 / 10  V  within 30 to 60\n",
        2,
        "the range 30 to 60 is outside of what u8 can say here: 0 to 25.5",
        None,
    ),
    ("  byte 0 bits 1 to 0  mode  code { 0 off, 1 on }\n", 2, "`mode` has no text for 2, 3", None),
    ("  byte 0  a  u56 / 1000  V\n", 2, "the largest values have more digits than a number keeps", None),
    (
        "  byte 0  heat  i16 / 100  Cel\n",
        2,
        "`heat` is declared in [degF]: values in Cel are converted",
        "Cel  into [degF]",
    ),
    ("  repeat to end\n    next  a  u8\n", 2, "every repeat gives its readings the same time", None),
]
MISTAKES = [
    (
        "  open bytes 18446744073709551616 to -1\n    next  a  u8\n",
        2,
        "the number 18446744073709551616 is out of all bounds: places and counts go to 4294967296",
        None,
    ),
    (
        "  byte 0  a  u8\n  skip 99999999999999999999 bytes\n",
        3,
        "the number 99999999999999999999 is out of all bounds",
        None,
    ),
    ("  byte 0  a  u12\n", 2, "`u12` is no whole number of bytes: say which bits, as in `byte 0 bits 11 to 0`", None),
    ("  byte 0 bits 3 to 0  a  u5\n", 2, "bits 3 to 0 are 4 bits, but `u5` has 5", "u4"),
    ("  byte 0  a  u8  Cell\n", 2, "`Cell` is not a unit: did you mean `Cel`?", None),
    ("  byte 0  a  u8\n  byte 1  a  u8\n", 3, "`a` stands already in line 2", None),
    (
        '  byte 0  depth  u8\n  reject "x" when dept > 1\n',
        3,
        "`dept` is not a field of `d`: did you mean `depth`?",
        "depth",
    ),
    ("  byte 0  a  u8  within 5 to 1\n", 2, "the range goes downwards: write `within 1 to 5`", "within 1 to 5"),
    ("  record 1  a  u8\n", 2, "say first how records are made, as in `records tag u8, size u8`", None),
    ("  at x  a  number\n", 2, "`at` belongs to json and cbor and senml; this is bytes", None),
    (
        '  byte 0  a  u8\n  derive b = before(a) + 1\n  reject "x" when b > 3\n',
        4,
        "`before` can be used in `derive` and `missing` only",
        None,
    ),
    (
        "  repeat to end, each 1 s later\n    next  a  u8\n  derive s = a + 1\n",
        4,
        "`a` stands in a repeat and has many values: take one of them, as in `max_of(a)`",
        None,
    ),
    (
        "  byte 0  a  u8\n  choose a\n    is 1\n      derive b = a * 1 V\n    is 2\n      derive b = a * 1 Cel\n",
        7,
        "`b` is number in V above: two lines of one name must agree; give this one another name",
        None,
    ),
    ("  decode rest with other\n", 2, "there is no decoder `other` to hand this on to", None),
    ("  table t { 0 0, 0 1 }\n  byte 0  a  u8\n", 2, "the first numbers of a table rise from point to point", None),
    ('  bytes 0 to 3  t  time digits "DD.MM.YYYY"\n', 2, "packed digits have nothing between them", None),
    ("  byte 0  name{x}  u8\n", 2, "`x` in `name{x}` is no value read above", None),
    ("  byte 0  a  u8 / 0\n", 2, "a scale cannot divide by 0", None),
    ("  byte 0  a  u8  default 3\n", 2, "`default` belongs to the parameters of a command", None),
    ("  next  u8 = 3\n  byte 0  a  u8\n", 2, "this line writes: it stands in a `command`", None),
    (
        "  byte 0  a  u8\n  command c\n    length 3\n",
        4,
        "a command has parameters, lines with `=`",
        None,
    ),
    ("  byte 0  index  u8\n", 2, "`index` has a meaning of its own in decoders", None),
    ("  byte 0  a  u8  Cel\n  derive b = a + sum_of(a)\n", 3, "`sum_of` speaks of lines inside one repeat above", None),
    (
        "  byte 0  a  u8\n  derive b = previous(a)\n",
        3,
        "`previous` stands inside a repeat; the message before is `before`",
        None,
    ),
    (
        "  byte 0  a  u8\n  derive n = `x`\n",
        3,
        "`x` in backticks is the text of a code and has a meaning beside that code only",
        None,
    ),
    (
        "  byte 0  a  code { 0 low, 1 high }\n  derive n = if a = `low` then `hig` else a\n",
        3,
        "`hig` is not one of the texts of this code: did you mean `high`?",
        None,
    ),
    (
        "  byte 0  a  code { 0 low, 1 high }\n  derive n = if a = `low` then `high` else `low`\n",
        3,
        "both arms are texts in backticks: one of them must be a code that is read",
        None,
    ),
    (
        "  byte 0  a  code { 0 low, 1 high }\n  byte 1  b  code { 0 up, 1 down }\n  derive n = if a = `low` then a"
        " else b\n",
        4,
        "the codes of the two arms have different texts",
        None,
    ),
    (
        "  byte 0  a  u8\n  derive n = if `x` = `y` then a else 2\n",
        3,
        "both sides are texts in backticks: one of them must be a code that is read",
        None,
    ),
    (
        "  repeat frames from 0xF5 to 0xF5\n    rest  a  hex\n",
        2,
        "start, end and escape of a frame are different bytes",
        None,
    ),
]


@pytest.mark.parametrize("body,line,message,fix", WARNINGS)
def test_remarks(body: str, line: int, message: str, fix: str | None) -> None:
    plan, problems = check_decoder("decoder d for bytes, big endian\n" + body, HEAT)
    assert plan is not None, problems
    assert [(p.severity, p.span.line, p.fix) for p in problems] == [("warning", line, fix)]
    assert problems[0].message.startswith(message)


@pytest.mark.parametrize("body,line,message,fix", MISTAKES)
def test_mistakes(body: str, line: int, message: str, fix: str | None) -> None:
    plan, problems = check_decoder("decoder d for bytes, big endian\n" + body)
    errors = [p for p in problems if p.severity == "error"]
    assert plan is None and len(errors) == 1, problems
    assert (errors[0].span.line, errors[0].fix) == (line, fix)
    assert errors[0].message.startswith(message)


def test_mistakes_of_several_lines_are_all_told() -> None:
    _, problems = check_decoder(
        "decoder d for bytes\n  byte 0  a  u8  Cell\n  byte 1  b  u9\n  derive c = aa + 1\n  byte 2  fine  u8\n"
    )
    assert [p.span.line for p in problems if p.severity == "error"] == [2, 3, 4]


def test_branches_of_which_one_is_taken_may_read_the_same_bytes() -> None:
    text = (
        "decoder d for bytes, big endian\n  byte 0  kind  u8\n  choose kind\n    is 1\n      byte 1  a  u16\n   "
        " is 2\n      byte 1  b  u8\n      byte 2  c  u8\n  when kind = 3\n    byte 3  e  u8\n  otherwise\n    byte 3"
        "  f  u8\n"
    )
    assert check_decoder(text)[1] == []
    plan, problems = check_decoder(text + "  byte 2  again  u8\n")
    assert plan is not None
    assert [p.message for p in problems] == ["`again` reads bits of byte 2 that `c` has read already"], (
        "after the branches, what any of them read counts"
    )
