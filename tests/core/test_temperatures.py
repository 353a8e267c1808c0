"""Scales with a zero of their own, pair by pair: what may be added, taken away and compared, and what comes of it."""

from __future__ import annotations

from fractions import Fraction
from itertools import product

import pytest

from oculum.language.decoders import check_decoder

from .test_storages import readings

# Kelvin of a number on the scale: (number + zero) * size
SCALES = {"Cel": (Fraction(27315, 100), Fraction(1)), "K": (Fraction(0), Fraction(1)),
          "[degF]": (Fraction(45967, 100), Fraction(5, 9))}  # fmt: skip
POINT, DIFFERENCE, LITERAL = "point", "difference", "literal"
KINDS = (POINT, DIFFERENCE, LITERAL)
A, B = 30, 12
RULES = {  # what comes of two of them; nothing where they cannot stand together
    ("+", POINT, POINT): None, ("+", POINT, DIFFERENCE): POINT, ("+", POINT, LITERAL): POINT,
    ("+", DIFFERENCE, POINT): POINT, ("+", DIFFERENCE, DIFFERENCE): DIFFERENCE, ("+", DIFFERENCE, LITERAL): DIFFERENCE,
    ("+", LITERAL, POINT): POINT, ("+", LITERAL, DIFFERENCE): LITERAL,
    ("-", POINT, POINT): DIFFERENCE, ("-", POINT, DIFFERENCE): POINT, ("-", POINT, LITERAL): POINT,
    ("-", DIFFERENCE, POINT): None, ("-", DIFFERENCE, DIFFERENCE): DIFFERENCE, ("-", DIFFERENCE, LITERAL): DIFFERENCE,
    ("-", LITERAL, POINT): DIFFERENCE, ("-", LITERAL, DIFFERENCE): LITERAL,
}  # fmt: skip


def kelvin(value: Fraction, unit: str, kind: str) -> Fraction:
    zero, size = SCALES[unit]
    return value * size if kind == DIFFERENCE else (value + zero) * size


def on(value: Fraction, unit: str, kind: str) -> Fraction:
    zero, size = SCALES[unit]
    return value / size if kind == DIFFERENCE else value / size - zero


def text(expression: str, *sides: tuple[str, str, str]) -> str:
    lines = "".join(
        f"  next  {name}  u8  {unit}{'  difference' if kind == DIFFERENCE else ''}\n" for name, unit, kind in sides
    )
    return f"decoder d for bytes, big endian\n{lines}  derive found = {expression}\n"


PAIRS = [p for p in product("+-", SCALES, KINDS, SCALES, KINDS) if (p[2], p[4]) != (LITERAL, LITERAL)]


@pytest.mark.parametrize(("sign", "left", "first", "right", "second"), PAIRS)
def test_sums_and_differences(sign: str, left: str, first: str, right: str, second: str) -> None:
    written = [
        f"{number} {unit}" if kind == LITERAL else name
        for number, unit, kind, name in ((A, left, first, "a"), (B, right, second, "b"))
    ]
    kelvins = "K" in left and "K" in right
    wanted = RULES[sign, first, second]
    if (sign, first, second) == ("+", POINT, POINT) and kelvins:
        wanted = LITERAL  # of two absolute temperatures: for a mean
    body = text(f"{written[0]} {sign} {written[1]}", ("a", left, first), ("b", right, second))
    plan, problems = check_decoder(body)
    if wanted is None:
        (said,) = [p.message for p in problems if p.severity == "error"]
        assert "difference" in said
        return
    assert plan is not None, problems
    # A number that stands beside a temperature is what makes sense there.
    as_first = (POINT if second == POINT and sign == "-" else DIFFERENCE if second == POINT else POINT) if (
        first == LITERAL
    ) else first  # fmt: skip
    as_second = DIFFERENCE if second == LITERAL else second
    if first == DIFFERENCE and second == LITERAL:
        as_second = DIFFERENCE
    x, y = kelvin(Fraction(A), left, as_first), kelvin(Fraction(B), right, as_second)
    total = x + y if sign == "+" else x - y
    gives = POINT if wanted == LITERAL else wanted
    unit = right if sign == "+" and first != POINT and second == POINT else left
    (spec,) = [f for f in plan.all_fields if f.name == "found"]
    assert (spec.unit, spec.difference) == (unit, wanted == DIFFERENCE)
    assert readings(body, bytes([A, B]))["found"] == pytest.approx(float(on(total, unit, gives)), abs=1e-9)


@pytest.mark.parametrize(("left", "first", "right", "second"), [p[1:] for p in PAIRS if p[0] == "+"])
def test_comparisons(left: str, first: str, right: str, second: str) -> None:
    written = [
        f"{number} {unit}" if kind == LITERAL else name
        for number, unit, kind, name in ((A, left, first, "a"), (B, right, second, "b"))
    ]
    body = text(f"{written[0]} > {written[1]}", ("a", left, first), ("b", right, second))
    plan, problems = check_decoder(body)
    if {first, second} == {POINT, DIFFERENCE}:
        assert plan is None and any("difference" in p.message for p in problems)
        return
    assert plan is not None, problems
    kind = DIFFERENCE if DIFFERENCE in (first, second) else POINT
    assert readings(body, bytes([A, B]))["found"] == (
        kelvin(Fraction(A), left, kind) > kelvin(Fraction(B), right, kind)
    )


def test_a_number_of_degrees_is_what_stands_beside_it_needs() -> None:
    body = "decoder d for bytes, big endian\n  next  start  u8  Cel\n  next  warmer  u8\n"
    assert readings(body + "  derive t = start - warmer * 1 K\n", bytes([20, 5]))["t"] == 15
    assert readings(body + "  derive t = start + warmer * 1 [degF]\n", bytes([20, 9]))["t"] == 25
    assert readings(body + "  derive t = warmer * 10 K  into Cel\n", bytes([20, 30]))["t"] == pytest.approx(26.85)


def test_a_difference_is_converted_without_the_zeros() -> None:
    body = "decoder d for bytes, big endian\n  next  a  u8  Cel\n  next  b  u8  Cel\n"
    found = readings(
        body + "  derive d = a - b  into [degF]\n  next  e  u8  Cel  difference  into K\n", bytes([30, 10, 7])
    )
    assert (found["d"], found["e"]) == (36, 7)
    assert readings(body + "  derive d = a - b\n  derive big = 15 K < d\n", bytes([30, 10]))["big"] is True


def test_only_temperatures_have_differences() -> None:
    plan, problems = check_decoder("decoder d for bytes\n  byte 0  level  u8  m  difference\n")
    assert plan is None
    assert problems[0].message == (
        "`difference` is for temperatures, whose scales have zeros of their own; `level` is a number in m"
    )
