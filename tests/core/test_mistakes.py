"""One mistake, one error: at its line, within its text, in words that say what was found and what to do."""

from __future__ import annotations

import pytest

from oculum.decoding.commands import CommandError, encode_command
from oculum.language import limits
from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.fields import FieldSpec

DECLARED = {"heat": FieldSpec("heat", "number", "[degF]"), "door": FieldSpec("door", "flag")}
LONG = "x" * 41

BYTES = [
    # places
    ("byte 0  a  u8 * 0", "a scale of 0 loses the value"),
    ("byte 0  a  u8 * 12345678901234567890", "the scale has too many digits"),
    ("bytes 5 to 2  a  u32", "a range of bytes goes upwards"),
    ("byte 70000  a  u8", "a payload has at most 65536 bytes"),
    ("byte -1  a  u16", "`u16` at byte -1 reaches beyond the end of the payload"),
    ("same bit 3  a  flag", "`same` needs a line before it that reads bytes"),
    ("register 3  a  u16", "`register` belongs to registers; this is bytes"),
    ("at x.y  a  number", "`at` belongs to json and cbor and senml; this is bytes"),
    ("bytes 0 to 9 bits 8 to 0  a  u9", "a number has at most 8 bytes"),
    ("byte 0  a  u8 low word first", "an order of words is for numbers of 32 or 64 bits"),
    ("bytes 0 to 1 bits 19 to 12  a  u8", "bit 19 lies outside 2 bytes: bits count from 0 (lowest) to 15"),
    ("bytes 0 to 4 bits 32 to 1  a  f32", "a floating-point number takes whole bytes"),
    ("bytes 0 to 3  a  u16", "`u16` has 2 bytes, the address 4"),
    ("next  a  unsigned 3 to 2 bytes", "a number has 1 to 8 bytes: write `unsigned 1 to 4 bytes`"),
    ("byte 0  a  varint", "`varint` stands at `next`, `rest` or in a record"),
    ("bytes 3 to 1  a  text", "a range of bytes goes upwards"),
    ("bytes -1 to 1  a  text", "a range of bytes goes upwards"),
    ("next  a  text", "say how many bytes, as in `next 8 bytes`, `next size bytes` or `rest`"),
    ("record 1  a  text", "say first how records are made, as in `records tag u8, size u8`"),
    ("byte 0 bit 3  a  text", "this is no run of whole bytes"),
    # kinds
    ("byte 0 bits 3 to 0  a  flag", "a flag is one bit: say which, as in `byte 0 bit 7`"),
    ("byte 0  a  code i8 { 0 off }", "a code is stored unsigned"),
    ("byte 0  a  code { 0 off, 0 on }", "a number stands twice in this code"),
    ("byte 0 bits 1 to 0  a  code { 0 off, 9 on }", "9 does not fit into 2 bits"),
    ("byte 0  a  position number, number", "in bytes a position says how it is stored"),
    ("bytes 0 to 1 bits 11 to 0  a  position i12, i12", "a position takes whole bytes"),
    ("byte -4  a  position i32, i32", "the position reaches beyond the end of the payload"),
    ('byte 0  a  time u32 m since "2000-01-01"', "a time counts seconds or the like; `m` is a length"),
    ('byte 0  a  time u32 s since "yesterday"', '"yesterday" is no date'),
    (
        'byte 0  a  time i32 s since "2000-01-01" wrapping',
        "a counter that wraps is stored unsigned, in at most 48 bits",
    ),
    ('byte 0  a  time digits "YYYYMMDDhhm"', "packed digits stand two a byte"),
    ('byte 0  a  time digits "YYMMDDhhmm" local "Nowhere/Much"', '"Nowhere/Much" is no time zone'),
    ('byte 0  a  time digits "YYMMDDhhmm" local zone', "`zone` is no text read above"),
    ("byte 0  a  number", "`number` is a kind of documents; in bytes say how it is stored, such as `u16`"),
    ("byte 0 bit 1  a  flag  V", "a flag has no unit"),
    ("next 3 bytes  a  text  V", "a text has no unit"),
    ("byte 0 bit 1  a  flag present", "`flag present` says whether a record is there"),
    # what stands behind
    ('byte 0  a  u8  missing "gone" raw "x"', 'found "x": a mark in bytes is a number, such as 0xFFFF'),
    ('byte 0  a  u8  missing "gone" raw 300', "300 does not fit into 8 bits"),
    ("byte 0  a  code { 0 off, 1 on }  within 0 to 1", "`within` is for numbers; `a` is a code"),
    ("byte 0  a  u8  V  into m", "`a` is to be given in m (a length); `V` is a voltage"),
    ("byte 0  heat  u8  V", "`heat` is declared in [degF] (a temperature); `V` is a voltage"),
    ("byte 0 bit 0  a  flag  into V", "`into` converts numbers; `a` is a flag"),
    ("byte 0  door  u8", "`door` is declared as flag, this line gives integer"),
    ("byte 0  a  u8  stamped 3 s", "`stamped` takes a time: the moment at which this was measured"),
    ("byte 0  a  u8  by unit { 0 m, 1 cm }", "`unit` is no value read above"),
    ("byte 0  a_{index}  u8", "`{index}` in a name counts repeats; this line stands in none"),
    ("byte 0 bit 0  on  flag\nbyte 1  a_{on}  u8", "a name is made from numbers and texts; `on` is neither"),
    ("byte 0  a  u8\nbyte 1  b  u8  by no_such { 0 m, 1 cm }", "`no_such` is no value read above"),
    (
        "byte 0  u  u8\nbyte 1  b  u8  by u { 0 m, 1 s }",
        "`s` is a time, but `m` is a length: one field has one dimension",
    ),
    (
        "byte 0  u  code { 0 metre, 1 inch }\nbyte 1  b  u8  by u { `metre` m, `foot` cm }",
        "`foot` is not one of the texts of `u`",
    ),
    ('byte 0  u  u8\nbyte 1  b  u8  by u { "x" m, "y" cm }', '"x" cannot be a value of `u`, which is a number'),
    # statements
    ("derive a = 1 V * 1 V * 1 Cel", "a temperature on a scale with its own zero cannot be multiplied or divided"),
    (
        "byte 0  a  u8\nderive b = a default 3",
        "a derived value takes `within`, `missing … when`, `into`, `stamped` and `hidden`",
    ),
    ('byte 0  a  u8\nmissing "gone" b when a > 3', "`b` is no field given above"),
    (
        'byte 0  a  u8  hidden\nbyte 1  b  u8\nmissing "gone" a when b > 3',
        "`a` is no field given above; hidden values have no reading",
    ),
    ("byte 0  a  u8\nstamp 5", "`stamp` takes a time: the moment at which the readings were measured"),
    ("byte 0  a  u8\ndevice 5", "`device` takes a text: the name of the device that the readings belong to"),
    ("byte 0  a  u8\nchoose a\n  is 1\n    byte 1  b  u8\n  is 1\n    byte 1  c  u8", "1 stands in two arms"),
    ("byte 0  a  u8\nchoose a\n  is 5 to 2\n    byte 1  b  u8", "the range goes downwards: write `2 to 5`"),
    ('byte 0  a  u8\nchoose a\n  is "x"\n    byte 1  b  u8', "a plain number cannot be compared with a text"),
    (f'repeat to end\n  apart "{LONG}"\n    next  a  u8', "the word for a part has 1 to 40 characters"),
    ("repeat lines\n  next  a  u8", "this repeat belongs to text; this is bytes"),
    ("repeat record 5\n  next  a  u8", "say first how records are made"),
    ("repeat to end up to 1000000\n  next  a  u8", f"a repeat runs at most {limits.REPEATS} times"),
    ("byte 0  b  u8\nrepeat 3 times\n  derive a = b + 1", "a repeat must read something"),
    (
        "repeat to end\n  next  a  u8\n  derive b = before(a)",
        "`before` speaks of the message before and cannot stand in a repeat",
    ),
    ('columns by ";"\nbyte 0  a  u8', "`columns` belongs to text; this is bytes"),
    ("records tag i8, size u8\nrecord 1  a  u8", "tag and size of a record are `u8`, `u16`, `u32` or `varint`"),
    ("open bytes 2 to -1 as hex\n  next  a  u8", "`hex` unwraps a text; these are bytes already"),
    ("repeat frames from 0x7E to 300\n  next  a  u8", "the bytes of a frame lie between 0 and 0xFF"),
    ("decode rest with d", "there is no decoder `d` to hand this on to"),
    # constants, tables, commands
    ("when length > 3\n  constant c number = 2\nbyte 0  a  u8", "constants stand at the top of a decoder"),
    ("constant c number = 2\nconstant c number = 3\nbyte 0  a  u8", "`c` stands already above"),
    ("constant c flag V = true\nbyte 0  a  u8", "a flag has no unit"),
    ("constant c text = 3\nbyte 0  a  u8", "`3` is no text"),
    ("table t { 0 0 }\nbyte 0  a  u8", f"a table has 2 to {limits.TABLE_POINTS} points"),
    ("table t { 0 0, 1 1 }\ntable t { 0 0, 1 1 }\nbyte 0  a  u8", "the table `t` stands already above"),
    ('pattern "x"\nbyte 0  a  u8', "`pattern` belongs to text; this is bytes"),
    ("byte 0  a  u8\ncommand c\n  next  u8 = 1\ncommand c\n  next  u8 = 2", "the command `c` stands already above"),
    (
        "byte 0  a  u8\ncommand c\n  bytes 3 to 4  b  text",
        "a command writes a text as `next 8 bytes`, or as `rest`",
    ),
    # expressions
    ("byte 0  a  u8\nderive b = a + `x`", "`x` in backticks is the text of a code"),
    ('byte 0  a  u8\nderive b = a + "x"', "found a text, expected a number"),
    ("byte 0  a  u8\nderive b = not a", "found"),
    ("byte 0  a  u8  V\nderive b = a + 1 m", "`m` is a length, but `V` is a voltage"),
    ("byte 0  a  u8  V\nderive b = a + 1", "1 has no unit: write it with one, such as `1 V`"),
    (
        "byte 0  a  u8  Cel\nbyte 1  b  u8  Cel\nderive c = a + b",
        "two temperatures cannot be added. Where one of them is a difference, its line says so",
    ),
    ('byte 0  a  u8\nreject "x" when a > 1 V', "`V` is a voltage, but `1` is a plain number"),
    ('byte 0  a  code { 0 off, 1 on }\nreject "x" when a > 1', "a code cannot be compared with a plain number by `>`"),
    (
        'byte 0  a  code { 0 off, 1 on }\nreject "x" when a = "on"',
        "the text of a code stands in backticks, as in mode = `normal`",
    ),
    (
        'byte 0  a  code { 0 off, 1 on }\nreject "x" when a = `onn`',
        "`onn` is not one of the texts of this code: did you mean `on`?",
    ),
    (
        'byte 0  a  u8\nderive b = if a > 3 then 1 else "x"',
        "one arm is number, the other text: both must be of one kind",
    ),
    ("byte 0  a  u8\nderive b = sqrot(a)", "`sqrot` is not a function: did you mean `sqrt`?"),
    ("byte 0  a  u8\nderive b = min(a)", "`min` takes"),
    ("byte 0  a  u8\nderive b = a ^ a", "found"),
    ("byte 0  a  u8\nderive b = index", "`index` counts repeats and has a meaning inside one only"),
    ('byte 0  a  u8\nderive b = "{A}"', "`{A}` is no name: write `{serial}`, `{serial:05}` for five digits"),
    (
        "byte 0  a  u8\nderive b = setpoint limit",
        "setpoints belong to conditions and routes; a decoder",
    ),
    ("byte 0  a  u8\nderive b = bytes 0 to 3", "found"),
    ("byte 0  a  u8\nderive b = 1e999", "a number lies between"),
    ("byte 0  a  u8\nderive b = received + 3 m", "found"),
    ("byte 0  a  u8  V\nderive b = a ^ 0.5", "a quantity with a unit takes whole powers only"),
    ("table t { 0 0, 1 1 }\nbyte 0  a  u8\nderive b = t(a, a)", "the table `t` takes one number"),
    ("byte 0  a  u8\nderive b = wrapped(a)", "`wrapped` takes 2 values, found 1"),
    ('byte 0  a  u8\nreject "x" when raw(a + 1) > 3', "`raw` takes the name of a field"),
    ("byte 0  a  u8\nderive b = latitude(a)", "`latitude` takes a position, found a plain number"),
    ("byte 0  a  u8\nderive b = first_known(a, 3 V)", "`V` is a voltage, but `1` is a plain number"),
    (
        'byte 0  a  u8\nderive b = first_known(a, "x")',
        "`first_known` takes values of one kind, found a plain number and a text",
    ),
    ('byte 0  a  u8\nderive b = abs("x")', "`abs` takes a number, found a text"),
    ("byte 0  a  u8  V\nderive b = log(a)", "`log` takes a plain number, found one in V"),
    (
        'byte 0  a  u8\nreject "x" unless crc16_modbus(a) = 3',
        "`crc16_modbus` takes a range of bytes, as in `crc16_modbus(bytes 0 to -3)`",
    ),
    (
        'byte 0  a  u8\nreject "x" unless crc(bytes 0 to -2, 8) = 3',
        "`crc` takes a range, width, polynomial, start, whether reflected, and what is XORed at the end",
    ),
    (
        'byte 0  a  u8\nreject "x" unless crc(bytes 0 to -2, 9, 1, 0, false, 0) = 3',
        "`crc` takes a width of 8, 16, 24 or 32 bits and numbers that fit into it",
    ),
    (
        'byte 0  a  u8\nreject "x" unless sum16_words(registers 1 to 3) = 3',
        "a range of registers goes upwards and stands in decoders for registers",
    ),
    ("repeat to end, each 1 s later\n  next  a  u8\nderive b = sum_of(a, a)", "`sum_of` takes 1 value"),
    (
        "repeat to end, each 1 s later\n  next  a  u8\nderive b = any_of(a)",
        "`any_of` takes something true or false, found a plain number",
    ),
    (
        "repeat to end, each 1 s later\n  next 1 byte  a  text\nderive b = join_of(a, 3)",
        "`join_of` takes what stands between as a text",
    ),
    ("byte 0  a  u8\nderive b = before(a + 1)", "`before` takes the name of a field"),
    ("byte 0  a  u8\nderive b = before(a)\nderive c = before(b)", "`b` itself speaks of the message before"),
    ("byte 0  a  u8\nderive b = " + "(" * 40 + "a" + ")" * 40, "expressions nest at most"),
    ("byte 0  a  u8\n\tbyte 1  b  u8", "found a tab: indent with blanks"),
    ("byte 0  a  u8 # \u202e", "found a control or direction character: remove it"),
    ("byte 0  a  u8  # " + "x" * 400, "the line has"),
]

REGISTERS = [
    ("registers 5 to 4  a  u32", "a range of registers goes upwards"),
    ("register 5  a  u8", "`u8` has 8 bits, 1 register 16: say which bits, as in `register 5 bits 7 to 0`"),
    ("registers 5 to 4  a  text", "a range of registers goes upwards"),
]
JSON = [
    ("at a  x  u8", "a storage of bytes stands in a document"),
    ("at a  x  position number, number", "a position has two paths, `at lat, lon`; everything else has one"),
    ("at a, b  x  number", "a position has two paths"),
    ("at a, b  x  position i32, i32", "in a document a position is `position number, number`"),
    ("at a  x  flag  V", "a flag has no unit"),
    ('at a  x  text  words { "x" 0 }', "`words` gives numbers for words; `x` is a text"),
    ("byte 0  x  u8", "a place in bytes belongs to"),
    ("open at data\n  next  x  u8", "say how it is written, as in `open at data as base64`"),
    ("repeat set bits of 3\n  at .  x  number", "this repeat belongs to"),
]
TEXT = [
    ("column 1  x  number", "say first what stands between columns"),
    ("repeat columns 1 to -1\n  rest  x  number", "say first what stands between columns"),
    ('columns by "123456789"\ncolumn 1  x  number', "what stands between columns has 1 to 8 characters"),
    ("group a  x  number", "`a` is no group of the pattern"),
    ('pattern "(?P<depth>[0-9]+"\ngroup depth  x  number', "the pattern cannot be read"),
    ('pattern "(?P<depth>[0-9]+)"\ngroup dept  x  number', "`dept` is no group of the pattern: did you mean `depth`?"),
]
WHOLE = [
    ("decoder other for bytes, big endian\n  byte 0  a  u8\n", 1, "this decoder belongs to the device type `d`"),
    ("decoder d for json, big endian\n  at a  x  number\n", 1, "a byte order has no meaning in JSON"),
    (
        "decoder d for bytes, big endian\n  length 3\n",
        1,
        "this decoder gives no reading: add a line such as `byte 0  battery  u8 / 50  V`",
    ),
    ("decoder d for bytes, big endian, counted from 2\n  byte 2  a  u8\n", 1, "places are counted from 0 or from 1"),
    ("decoder d for bytes, big endian, counted from 1\n  byte 0  a  u8\n", 2, "this decoder counts bytes from 1"),
    (
        "decoder d for bytes, big endian, counted from 1\n  byte 1 bit 0  a  flag\n",
        2,
        "this decoder counts bits from 1",
    ),
]


TYPES = {"pod": ({"level": FieldSpec("level", "number", "m"), "door": FieldSpec("door", "flag")}, {"level_max": "m"})}
CONDITIONS = [
    ("on pod\non pod\nraise when level > 3 m", "`on` stands twice; one is enough"),
    ("raise when level > 3 m", "`on` is missing: say which device type, as in `on raft_buoy`"),
    ("on pot\nraise when level > 3 m", "`pot` is not a device type: did you mean `pod`?"),
    ("on pod", "`raise when` is missing"),
    (
        "on pod\nraise when level > 3 m deadband 1 m\nclear when level < 2 m",
        "a condition with a rule of its own for clearing takes no deadband",
    ),
    ("on pod\nraise when level > 3 m deadband -1 m", "found `-`: expected a number or the end of the line"),
    ("on pod\nraise when level > 3 m deadband 1", "the deadband has no unit: write `1 m`"),
    ("on pod\nraise when not level > 3 m deadband 1 m", "a deadband goes with comparisons joined by `and` and `or`"),
    ("on pod\nraise when 3 > 2", "the rule speaks of no field, so that no reading could ever raise it"),
    (
        'on pod\nraise when level > 3 m\nsay "{device}: {levle}"',
        "`{levle}` is neither a field nor a setpoint: did you mean `level`?",
    ),
    (
        "on pod\nraise when level > setpoint level_mx",
        "`level_mx` is not a setpoint of `pod`: did you mean `level_max`?",
    ),
    ("on pod\nraise when level > 3 m held 3 m", "`3 m` is no duration: `m` is a length"),
    ("on pod\nraise when level > 3 m held 900 d", f"a duration is at most {limits.DURATION_DAYS} d"),
    ("on pod\nraise when before(level) > 3 m", "`before` stands in decoders only"),
    ("on pod\nraise when length > 3", "`length` is"),
    ("on pod\nraise when door > 3", "true or false cannot be compared with a plain number by `>`"),
    ("on pod\nraise when level", "found a number in m, expected something true or false"),
]


def one_error(text: str, line: int, message: str) -> None:
    plan, problems = check_decoder(text, DECLARED, owner="d")
    errors = [p for p in problems if p.severity == "error"]
    assert plan is None
    assert len(errors) == 1, [(p.span.line, p.message) for p in errors]
    (error,) = errors
    assert error.message.startswith(message), error.message
    assert error.span.line == line, error.message
    rows = text.split("\n")
    assert 1 <= error.span.column <= error.span.end_column <= len(rows[line - 1]) + 2


def cases(source: str, found: list[tuple[str, str]]) -> list[object]:
    return [
        pytest.param(source, body, message, id=f"{source}-{message[:40]}-{n}")
        for n, (body, message) in enumerate(found)
    ]


@pytest.mark.parametrize(
    "source,body,message",
    [
        *cases("bytes, big endian", BYTES),
        *cases("registers, big endian", REGISTERS),
        *cases("json", JSON),
        *cases("text", TEXT),
    ],
)
def test_a_mistake_in_a_line(source: str, body: str, message: str) -> None:
    rows = body.split("\n")
    text = f"decoder d for {source}\n" + "".join(f"  {row}\n" for row in rows)
    plan, problems = check_decoder(text, DECLARED, owner="d")
    errors = [p for p in problems if p.severity == "error"]
    assert plan is None and errors
    one_error(text, errors[0].span.line, message)


@pytest.mark.parametrize("body,message", CONDITIONS)
def test_a_mistake_in_a_condition(body: str, message: str) -> None:
    plan, problems = check_condition(
        'condition "x" priority high\n' + "".join(f"  {row}\n" for row in body.split("\n")), TYPES
    )
    assert plan is None
    assert [p.message[: len(message)] for p in problems if p.severity == "error"] == [message], [
        p.message for p in problems
    ]


COMMANDS = """decoder d for bytes, big endian
  byte 0  a  u8
  command set
    next  u8 = 0x10
    next  amount  u16 / 10  V    within 0 to 40
    next  mode    code u8 { 1 slow, 2 fast }
    next  when    time u32 s since "2000-01-01"  within "2020-01-01" to "2030-01-01"
    next 1 byte bit 0  lit  flag  default false
    next  digits  bcd4  default 12
    derive twice = amount * 2
    next  u16 = twice / (1 V)
  command check
    next  x  u8
    next  u8 = sum8(bytes 0 to 3)
"""
GOOD = {"amount": 12.5, "mode": "fast", "when": "2026-03-02T00:00:00Z"}


@pytest.mark.parametrize(
    "name,changed,code,message",
    [
        ("sett", {}, "unknown command", "`d` has no command `sett`; it has set, check"),
        (
            "set",
            {"speed": 3},
            "unknown parameter",
            "`speed` is no parameter of `set`; it takes amount, digits, lit, mode, when",
        ),
        ("set", {"amount": None}, "missing parameter", "`amount` is not given"),
        ("set", {"amount": "much"}, "wrong kind", '`amount` is a number, found "much"'),
        ("set", {"amount": True}, "wrong kind", "`amount` is a number, found true"),
        ("set", {"amount": "nan"}, "out of range", "`amount` is nan, out of all bounds"),
        ("set", {"amount": "1e400"}, "out of range", "`amount` is 1e400, out of all bounds"),
        ("set", {"amount": "40.01"}, "out of range", "`amount` is 40.01; 0 to 40 V is allowed"),
        ("set", {"mode": "faster"}, "unknown choice", "`mode` is one of slow, fast; found faster"),
        ("set", {"mode": 2}, "unknown choice", "`mode` is one of slow, fast; found 2"),
        ("set", {"when": "tomorrow"}, "wrong kind", '`when` is a time with its zone, found "tomorrow"'),
        (
            "set",
            {"when": "2031-01-01T00:00:00Z"},
            "out of range",
            "`when` is 2031-01-01T00:00:00Z; 2020-01-01T00:00:00Z to 2030-01-01T00:00:00Z is allowed",
        ),
        ("set", {"lit": "perhaps"}, "wrong kind", "`lit` is true or false, found perhaps"),
        ("set", {"digits": 10_000}, "out of range", "10000 does not fit into 4 digits"),
        ("check", {"x": 1}, "wrong kind", "line 14: the check reaches beyond what is written so far"),
    ],
)
def test_a_mistake_in_a_command(name: str, changed: dict[str, object], code: str, message: str) -> None:
    plan, problems = check_decoder(COMMANDS)
    assert plan is not None, problems
    given = {k: v for k, v in ({**GOOD, **changed} if name == "set" else changed).items() if v is not None}
    with pytest.raises(CommandError) as refused:
        encode_command(plan, name, given)
    assert (refused.value.code, str(refused.value)) == (code, message)


def test_the_command_that_those_mistakes_are_made_in() -> None:
    plan, _ = check_decoder(COMMANDS)
    assert plan is not None
    assert encode_command(plan, "set", GOOD).hex() == f"10007d02{825_724_800:08x}0000120019"


@pytest.mark.parametrize("text,line,message", WHOLE)
def test_a_mistake_in_the_whole(text: str, line: int, message: str) -> None:
    one_error(text, line, message)


@pytest.mark.parametrize(
    "body,lines",
    [
        (
            "when a > 3\n  bite 1  b  u8\nbyte 2  c  u99\n",
            [3, 4],
        ),  # nothing is left of the block, and what follows is still read
        ("choose a\n  is 1\n    bite 1  b  u8\n  is 2\n    byte 1  d  u8\nbyte 2  c  u99\n", [4, 7]),
        ("repeat to end\n  # what each has\n  nex b  u8\n", [4]),
        ("bite 1  b  u8\n\n\nbite 2  c  u8\n", [2, 5]),
        ("open bytes 1 to -1\n  repeat to end\n    nex  b  u8\n", [4]),
    ],
)
def test_lines_that_are_set_aside_make_no_mistakes_of_their_own(body: str, lines: list[int]) -> None:
    text = "decoder d for bytes, big endian\n" + "".join(f"  {row}\n" if row else "\n" for row in body.split("\n"))
    plan, problems = check_decoder(text)
    assert plan is None
    assert (
        sorted(p.span.line for p in problems if p.severity == "error" and "`a` is not a field" not in p.message)
        == lines
    ), [(p.span.line, p.message) for p in problems]


@pytest.mark.parametrize(
    "rest",
    ["byte 1 a u8\n  x", "x\n  when(", '\n x:"\nx', " when1\nx", "decoder again for bytes\n  when x", "\n\n\tx\n x"],
)
def test_what_stands_behind_the_end_is_told_and_no_more(rest: str) -> None:
    plan, problems = check_decoder('decoder d for bytes\n  byte 0  a  u8\n  reject "x" as y when a > 3\n' + rest, {})
    assert plan is None and problems
