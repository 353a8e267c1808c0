"""Units in words: printed as people print them, found by what is measured in them, each one that the language knows."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oculum.quantities import UnitError, parse_unit, printed, units_in_words

PRINTED: dict[str, str] = json.loads(
    (Path(__file__).parent.parent / "data" / "printed_units.json").read_text(encoding="utf-8")
)
UNITS = units_in_words()


@pytest.mark.parametrize(("code", "form"), PRINTED.items())
def test_a_unit_is_printed_as_people_print_it(code: str, form: str) -> None:
    assert printed(code) == form


def test_every_unit_that_is_offered_can_be_used() -> None:
    codes = [unit.code for unit in UNITS]
    assert len(codes) == len(set(codes))
    for unit in UNITS:
        parse_unit(unit.code)
        assert unit.printed == printed(unit.code)
        assert not set("[]{}") & set(unit.printed), unit
    for unit in UNITS[:80]:
        assert unit.words, unit


PLAIN = ["m", "s", "g", "Cel", "Ohm", "L", "Pa", "mol", "deg", "%", "V"]


@given(st.lists(st.tuples(st.sampled_from(PLAIN), st.integers(-3, 3).filter(bool)), min_size=1, max_size=4))
def test_what_is_printed_of_a_product_is_the_product_of_what_is_printed(terms: list[tuple[str, int]]) -> None:
    raised = {"-": "⁻", "1": "¹", "2": "²", "3": "³"}
    code = ".".join(atom + ("" if power == 1 else str(power)) for atom, power in terms)
    parts = [printed(atom) + ("" if power == 1 else "".join(raised[c] for c in str(power))) for atom, power in terms]
    assert printed(code) == "·".join(parts)


@settings(deadline=None)  # the first conversion loads the units library
@given(st.sampled_from(["m", "cm", "km", "[ft_i]", "mm"]), st.sampled_from(["s", "min", "h", "ms"]))
def test_a_quotient_has_the_size_of_its_parts(above: str, below: str) -> None:
    found, a, b = parse_unit(f"{above}/{below}"), parse_unit(above), parse_unit(below)
    assert found.factor == a.factor / b.factor and isinstance(found.factor, Fraction)
    assert dict(found.dimension) == {**dict(a.dimension), **{base: -n for base, n in b.dimension}}


@given(st.text(max_size=12))
def test_no_text_breaks_the_reading_or_the_printing_of_a_unit(text: str) -> None:
    try:
        parse_unit(text)
    except UnitError as error:
        assert str(error)
    assert isinstance(printed(text), str)
