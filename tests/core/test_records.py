"""Records of tag, length and content against a decoder that goes byte by byte, alone and in mixed batches."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.answers import answer
from oculum.batches import Payloads
from oculum.decoding.decode import decode
from oculum.language.decoders import check_decoder
from tests.often import examples

pytestmark = pytest.mark.usefixtures("way")

WIDTHS = {"u8": 1, "i8": 1, "u16": 2, "i16": 2, "u24": 3, "u32": 4, "i32": 4}
# tag -> storage, whether its highest raw value is a mark, whether it must be there
fields_of = st.dictionaries(
    st.sampled_from([0, 1, 2, 7, 31, 200]),
    st.tuples(st.sampled_from(sorted(WIDTHS)), st.booleans(), st.sampled_from([False, False, True])),
    min_size=1,
    max_size=4,
)
headers = st.sampled_from([("u8", "u8"), ("u8", "u16"), ("u16", "u8"), ("varint", "u8"), ("u8", "varint")])


def text_of(fields: dict[int, tuple[str, bool, bool]], header: tuple[str, str], once: bool, listed: bool) -> str:
    lines = [f"  records tag {header[0]}, size {header[1]}" + (", once" if once else "")]
    for tag, (storage, marked, required) in fields.items():
        mark = f'  missing "gone" raw {top(storage)}' if marked else ""
        lines.append(f"  record {tag}  f{tag}  {storage} / 4{mark}{'  required' if required else ''}")
    if listed:
        lines += ["  repeat record 9, each 1 s later", "    next  g  u8"]
    return "\n".join(["decoder d for bytes, big endian", *lines]) + "\n"


def top(storage: str) -> int:
    bits = int(storage[1:])
    return 2**bits - 1 if storage[0] == "u" else 2 ** (bits - 1) - 1


def write(number: int, storage: str) -> bytes:
    if storage != "varint":
        return number.to_bytes(int(storage[1:]) // 8, "big")
    out = bytearray()
    while number > 127:
        out.append(number & 127 | 128)
        number >>= 7
    return bytes([*out, number])


def take(payload: bytes, at: int, storage: str) -> tuple[int, int]:
    """A number of a header and where it ends; raises IndexError where it is cut off."""
    if storage != "varint":
        width = int(storage[1:]) // 8
        if at + width > len(payload):
            raise IndexError
        return int.from_bytes(payload[at : at + width], "big"), at + width
    number = shift = 0
    while True:
        byte = payload[at]
        number |= (byte & 127) << shift
        at, shift = at + 1, shift + 7
        if byte < 128:
            return number, at


def by_hand(
    payload: bytes, fields: dict[int, tuple[str, bool, bool]], header: tuple[str, str], once: bool, listed: bool
) -> Any:
    at = 0
    found: dict[int, list[bytes]] = {}
    while at < len(payload):
        try:
            tag, at = take(payload, at, header[0])
            size, at = take(payload, at, header[1])
        except IndexError:
            return "too short"
        if at + size > len(payload):
            return "too short"
        found.setdefault(tag, []).append(payload[at : at + size])
        at += size
    values: dict[str, Any] = {}
    for tag, (storage, marked, required) in fields.items():
        contents = found.get(tag, [])
        if once and len(contents) > 1:
            return "malformed"
        if not contents:
            if required:
                return "malformed"
            continue
        if len(contents[-1]) != WIDTHS[storage]:
            return "malformed"
        raw = int.from_bytes(contents[-1], "big", signed=storage[0] == "i")
        values[f"f{tag}"] = None if marked and raw == top(storage) else float(Fraction(raw, 4))
    if listed:
        for content in found.get(9, []):
            if not content:
                return "malformed"
        values["g"] = [content[0] for content in found.get(9, [])]
    return values


contents = st.lists(
    st.tuples(st.sampled_from([0, 1, 2, 7, 9, 31, 99, 200]), st.binary(max_size=5), st.booleans()), max_size=7
)


@settings(max_examples=examples(150), deadline=None)
@given(
    fields_of,
    headers,
    st.booleans(),
    st.booleans(),
    st.lists(st.tuples(contents, st.integers(0, 3)), min_size=1, max_size=8),
    st.randoms(),
)
def test_records_give_what_a_decoder_by_hand_gives(
    fields: Any, header: Any, once: Any, listed: Any, messages: Any, random: Any
) -> None:
    plan, problems = check_decoder(text_of(fields, header, once, listed))
    assert plan is not None, problems
    payloads = []
    for records, harm in messages:
        body = b""
        for tag, content, fitting in records:
            if fitting and tag in fields:  # most records have the size that their line takes
                content = (content + bytes(4))[: WIDTHS[fields[tag][0]]]
                if random.random() < 0.2:
                    content = top(fields[tag][0]).to_bytes(len(content), "big")
            body += write(tag, header[0]) + write(len(content), header[1]) + content
        payloads.append(body[: max(len(body) - harm, 0)] if harm < 3 else body)
    copies = payloads * (1 + 24 // len(payloads))  # so many that they go as arrays; one alone goes by a loop
    together = decode(plan, Payloads.of(copies, [0] * len(copies)))
    for row, payload in enumerate(payloads):
        wanted = by_hand(payload, fields, header, once, listed)
        for decoded, place in ((together, row), (decode(plan, Payloads.of([payload], [0])), 0)):
            told = answer(decoded, place)
            if isinstance(wanted, str):
                assert told["error"]["code"] == wanted, payload.hex()
                continue
            assert "error" not in told, (told, payload.hex())
            single = {r["field"]: r["value"] for r in told["readings"] if r["field"] != "g"}
            assert single == {name: value for name, value in wanted.items() if name != "g"}, payload.hex()
            if listed:
                assert [r["value"] for r in told["readings"] if r["field"] == "g"] == wanted["g"]
    assert np.array_equal(
        together.good[: len(payloads)],
        [not isinstance(by_hand(p, fields, header, once, listed), str) for p in payloads],
    )


def test_what_a_block_left_unread_is_not_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    """A record of another size ends a block early; behind it there is whatever the memory held before."""
    fields = {1: ("u8", True, False), 2: ("u16", False, False), 7: ("u8", False, False)}
    plan, problems = check_decoder(text_of(fields, ("u8", "u8"), False, False))
    assert plan is not None, problems
    whole = bytes([1, 1, 255, 2, 2, 0, 8, 7, 1, 4])
    payloads = [whole] * 150 + [bytes([1, 1, 8, 2, 1, 3, 7, 1, 4])]
    empty = np.empty

    def dirty(*shape: Any, **more: Any) -> Any:
        found = empty(*shape, **more)
        found.fill(77)
        return found

    monkeypatch.setattr(np, "empty", dirty)
    decoded = decode(plan, Payloads.of(payloads, [0] * len(payloads)))
    assert decoded.good[:150].all()
    told = {r["field"]: r.get("value", r.get("missing")) for r in answer(decoded, 0)["readings"]}
    assert told["f2"] == 2 and told["f7"] == 1 and told["f1"] in (None, "gone")
