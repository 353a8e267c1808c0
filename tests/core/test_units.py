"""Units in words: printed as people print them, found by what is measured in them, each one that the language knows."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Any

import pint
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oculum import quantities
from oculum.language.decoders import check_decoder
from oculum.quantities import UnitError, parse_unit, printed, units_in_words, usual

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


@pytest.mark.parametrize(
    ("written", "code"),
    [
        *(("°C", "Cel"), ("℃", "Cel"), ("degC", "Cel"), ("°F", "[degF]"), ("%RH", "%"), ("µg/m³", "ug/m3")),
        *(("1/min", "/min"), ("rpm", "/min"), ("kWh", "kW.h"), ("kWh/day", "kW.h/d"), ("PPM", "[ppm]")),
        *(("dBm", "dB{mW}"), ("µSv/h", "uSv/h"), ("Ω", "Ohm"), ("Cel", None), ("furlongs", None), ("", None)),
    ],
)
def test_a_unit_written_as_people_do_is_told_its_code(written: str, code: str | None) -> None:
    assert usual(written) == code
    if code is not None:
        (problem,) = check_decoder(f"decoder d for bytes\n  byte 0  x  u8 / 2  {written}  within 0 to 90\n")[1]
        assert (problem.message, problem.fix) == (f"`{written}` is written `{code}`", code)
        assert (problem.span.line, problem.span.column, problem.span.end_column) == (2, 22, 22 + len(written))


def test_every_usual_unit_leads_to_one_that_is_known() -> None:
    table = json.loads((Path(quantities.__file__).with_name("usual_units.json")).read_text(encoding="utf-8"))
    for written, code in table.items():
        assert usual(written) == code
        parse_unit(code)
        with pytest.raises(UnitError):
            parse_unit(written)


def test_relative_humidity_is_a_share() -> None:
    (problem,) = check_decoder("decoder d for bytes\n  byte 0  x  u8  % RH\n")[1]
    assert (problem.message, problem.span.column) == ("relative humidity is written `%` alone", 20)


def test_what_is_no_unit_at_all_and_what_is_likely_another() -> None:
    (problem,) = check_decoder("decoder d for bytes\n  byte 0  x  u8  pulses\n")[1]
    assert problem.message == "`pulses` is no unit: a plain number, such as a count, has none"
    plan, problems = check_decoder("decoder d for bytes\n  byte 0  x  u8  C\n")
    assert plan is not None
    assert [(p.message, p.fix) for p in problems] == [("`C` is the coulomb; degrees Celsius are written `Cel`", "Cel")]


PLAIN = ["m", "s", "g", "Cel", "Ohm", "L", "Pa", "mol", "deg", "%", "V"]


@given(st.lists(st.tuples(st.sampled_from(PLAIN), st.integers(-3, 3).filter(bool)), min_size=1, max_size=4))
def test_what_is_printed_of_a_product_is_the_product_of_what_is_printed(terms: list[tuple[str, int]]) -> None:
    raised = {"-": "⁻", "1": "¹", "2": "²", "3": "³"}
    code = ".".join(atom + ("" if power == 1 else str(power)) for atom, power in terms)
    parts = [printed(atom) + ("" if power == 1 else "".join(raised[c] for c in str(power))) for atom, power in terms]
    assert printed(code) == "·".join(parts)


@given(st.sampled_from(["m", "cm", "km", "[ft_i]", "mm"]), st.sampled_from(["s", "min", "h", "ms"]))
def test_a_quotient_has_the_size_of_its_parts(above: str, below: str) -> None:
    found, a, b = parse_unit(f"{above}/{below}"), parse_unit(above), parse_unit(below)
    assert found.factor == a.factor / b.factor and isinstance(found.factor, Fraction)
    assert dict(found.dimension) == {**dict(a.dimension), **{base: -n for base, n in b.dimension}}


def test_units_have_the_size_that_the_units_library_says() -> None:
    registry: Any = pint.UnitRegistry(non_int_type=Fraction)

    def base(value: int, name: str) -> Fraction:
        return Fraction(registry.Quantity(Fraction(value), name).to_base_units().magnitude)

    wanted = {}
    for atom, (_, name, _) in quantities._ATOMS.items():
        if name is None:
            continue
        if name.endswith(("_Hg", "_H2O")):  # columns of a millimetre are what the library has
            wanted[atom] = (str(base(1, f"millimeter{name[5:]}") * 1000), "0")
        else:
            wanted[atom] = (str(base(1, name) - base(0, name)), str(base(0, name)))
    assert {atom: tuple(found) for atom, found in quantities._sizes().items()} == wanted


@given(st.text(max_size=12))
def test_no_text_breaks_the_reading_or_the_printing_of_a_unit(text: str) -> None:
    try:
        parse_unit(text)
    except UnitError as error:
        assert str(error)
    assert isinstance(printed(text), str)
