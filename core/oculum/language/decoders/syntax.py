"""How the texts of decoders are read."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

from ..parser import COMMON, Opening, Syntax, named
from .build import DecoderBuild

GRAMMAR = (Path(__file__).parent / "grammar.lark").read_text(encoding="utf-8")
KIND = re.compile(
    r"(?:[ui]|sm|oc|b?f|bcd|packed)[0-9]+\b|(?:flag|code|position|time|number|integer|text|hex|signed|unsigned|varint)\b"
)
_PLACE = r"-?\w+"
_BITS = r"(?:\s+bits?\s+\d+(?:\s+to\s+\d+)?)?"
_PATH = r'(?:[\w.-]|"(?:[^"\\]|\\.)*"|\[[^\]]*\])+'
# Where a line can say that a value stands, the longest way first.
ADDRESSES = tuple(
    re.compile(rf"\s*{address}(?=\s)")
    for address in (
        rf"bytes\s+{_PLACE}\s+to\s+{_PLACE}{_BITS}",
        rf"byte\s+{_PLACE}{_BITS}",
        rf"next\s+(?:\w+|\(.*?\))\s+bytes?{_BITS}",
        rf"next\s+byte{_BITS}",
        r"next\s+bits?\s+\d+(?:\s+to\s+\d+)?",
        r"next\s+bits",
        r"next",
        "rest",
        rf"same{_BITS}",
        rf"registers?\s+\w+(?:\s+to\s+\w+)?{_BITS}",
        r"(?:coil|record|group|header|topic)\s+\w+",
        rf"at\s+{_PATH}(?:\s*,\s*{_PATH})*",
        rf"column\s+{_PLACE}(?:\s+to\s+{_PLACE})?",
        "parameter",
    )
)


@cache
def keywords() -> frozenset[str]:
    """Every word of the grammars."""
    return frozenset(re.findall(r'"([a-z]+)"', GRAMMAR + COMMON))


def prepared(line: str) -> str:
    """A keyword that stands where a line names its field is marked as a name."""
    for address in ADDRESSES:
        found = address.match(line)
        if found is None:
            continue
        target = re.match(r"\s+([a-z]+)\s+(?=\S)", line[found.end() :])
        if target is None or not KIND.match(line, found.end() + target.end()):
            continue
        if target[1] not in keywords():
            return line
        begin = found.end() + target.start(1)
        return line[:begin] + named(target[1]) + line[begin + len(target[1]) :]
    return line


def opening(following: str) -> Opening:
    """What stands for a faulty line with a block below it."""
    if re.match(r"is\b", following):
        return (("CHOOSE", "choose"), ("NAME", "unreadable"))
    return (("WHEN", "when"), ("TRUE", "true"))


SYNTAX = Syntax(
    "decoder",
    "decoder NAME for bytes",
    GRAMMAR,
    DecoderBuild,
    opening,
    (("SKIP", "skip"), ("NUMBER", "0"), ("BYTES", "bytes")),
    prepared,
)
