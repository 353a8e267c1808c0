"""Units of measure by UCUM code, with dimensions, factors and offsets.

A unit is a linear scale on a dimension: value in base units = value * factor + offset.
Source of symbols: The Unified Code for Units of Measure, case-sensitive codes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

Dimension = tuple[tuple[str, int], ...]


class UnitError(ValueError):
    """A unit code that cannot be understood; the message says which part and why."""


@dataclass(frozen=True)
class Unit:
    """One unit: `code` as written, `dimension` as sorted (base, exponent) pairs.

    `factor` and `offset` lead to base units (offset is nonzero for temperature scales only).
    """

    code: str
    dimension: Dimension
    factor: float
    offset: float = 0.0

    @property
    def is_scale(self) -> bool:
        """True for a scale with a zero of its own (Cel, [degF]): absolute and difference differ."""
        return self.offset != 0.0


# atom -> (dimension, factor, offset, takes prefixes)
_BASE: dict[str, tuple[dict[str, int], float, float, bool]] = {
    "m": ({"length": 1}, 1.0, 0.0, True),
    "s": ({"time": 1}, 1.0, 0.0, True),
    "g": ({"mass": 1}, 1.0, 0.0, True),
    "K": ({"temperature": 1}, 1.0, 0.0, True),
    "A": ({"current": 1}, 1.0, 0.0, True),
    "cd": ({"luminosity": 1}, 1.0, 0.0, True),
    "mol": ({}, 6.02214076e23, 0.0, True),
    "rad": ({"angle": 1}, 1.0, 0.0, True),
    "deg": ({"angle": 1}, 0.017453292519943295, 0.0, False),
    "Cel": ({"temperature": 1}, 1.0, 273.15, True),
    "[degF]": ({"temperature": 1}, 5 / 9, 459.67 * 5 / 9, False),
    "min": ({"time": 1}, 60.0, 0.0, False),
    "h": ({"time": 1}, 3600.0, 0.0, False),
    "d": ({"time": 1}, 86400.0, 0.0, False),
    "wk": ({"time": 1}, 604800.0, 0.0, False),
    "mo": ({"time": 1}, 2629800.0, 0.0, False),
    "a": ({"time": 1}, 31557600.0, 0.0, False),
    "L": ({"length": 3}, 1e-3, 0.0, True),
    "l": ({"length": 3}, 1e-3, 0.0, True),
    "t": ({"mass": 1}, 1e6, 0.0, True),
    "Hz": ({"time": -1}, 1.0, 0.0, True),
    "N": ({"mass": 1, "length": 1, "time": -2}, 1e3, 0.0, True),
    "gf": ({"mass": 1, "length": 1, "time": -2}, 9.80665, 0.0, True),
    "Pa": ({"mass": 1, "length": -1, "time": -2}, 1e3, 0.0, True),
    "bar": ({"mass": 1, "length": -1, "time": -2}, 1e8, 0.0, True),
    "atm": ({"mass": 1, "length": -1, "time": -2}, 101325e3, 0.0, False),
    "m[Hg]": ({"mass": 1, "length": -1, "time": -2}, 133322387.415, 0.0, True),
    "m[H2O]": ({"mass": 1, "length": -1, "time": -2}, 9806650.0, 0.0, True),
    "[psi]": ({"mass": 1, "length": -1, "time": -2}, 6894757.293, 0.0, False),
    "J": ({"mass": 1, "length": 2, "time": -2}, 1e3, 0.0, True),
    "W": ({"mass": 1, "length": 2, "time": -3}, 1e3, 0.0, True),
    "V": ({"mass": 1, "length": 2, "time": -3, "current": -1}, 1e3, 0.0, True),
    "Ohm": ({"mass": 1, "length": 2, "time": -3, "current": -2}, 1e3, 0.0, True),
    "S": ({"mass": -1, "length": -2, "time": 3, "current": 2}, 1e-3, 0.0, True),
    "F": ({"mass": -1, "length": -2, "time": 4, "current": 2}, 1e-3, 0.0, True),
    "C": ({"current": 1, "time": 1}, 1.0, 0.0, True),
    "lm": ({"luminosity": 1}, 1.0, 0.0, True),
    "lx": ({"luminosity": 1, "length": -2}, 1.0, 0.0, True),
    "G": ({"mass": 1, "time": -2, "current": -1}, 0.1, 0.0, True),
    "T": ({"mass": 1, "time": -2, "current": -1}, 1e3, 0.0, True),
    "[g]": ({"length": 1, "time": -2}, 9.80665, 0.0, True),
    "[kn_i]": ({"length": 1, "time": -1}, 1852 / 3600, 0.0, False),
    "[nmi_i]": ({"length": 1}, 1852.0, 0.0, False),
    "[ft_i]": ({"length": 1}, 0.3048, 0.0, False),
    "[in_i]": ({"length": 1}, 0.0254, 0.0, False),
    "[mi_i]": ({"length": 1}, 1609.344, 0.0, False),
    "%": ({}, 0.01, 0.0, False),
    "[ppm]": ({}, 1e-6, 0.0, False),
    "[pH]": ({"acidity": 1}, 1.0, 0.0, False),
    "B": ({"level": 1}, 10.0, 0.0, True),
    "bit": ({"data": 1}, 1.0, 0.0, True),
    "By": ({"data": 1}, 8.0, 0.0, True),
    "1": ({}, 1.0, 0.0, False),
    # Local units: a dimension of their own, so that they mix with nothing else.
    "[psu]": ({"practical salinity": 1}, 1.0, 0.0, False),
    "{NTU}": ({"turbidity": 1}, 1.0, 0.0, False),
}

_PREFIXES = {
    "Y": 1e24, "Z": 1e21, "E": 1e18, "P": 1e15, "T": 1e12, "G": 1e9, "M": 1e6, "k": 1e3, "h": 1e2, "da": 1e1,
    "d": 1e-1, "c": 1e-2, "m": 1e-3, "u": 1e-6, "n": 1e-9, "p": 1e-12, "f": 1e-15,
    "Ki": 1024.0, "Mi": 1024.0**2, "Gi": 1024.0**3,
}  # fmt: skip

_TERM = re.compile(r"(?P<atom>(?:%|1|[A-Za-z]+(?:\[[^\]\s]+\])?|\[[^\]\s]+\]|\{NTU\}))?(?P<note>\{[^}\s]*\})?(?P<power>-?\d+)?$")


def known_codes() -> list[str]:
    """The plain unit codes of the table, for completion and for suggestions."""
    return [code for code in _BASE if code != "1"]


def _atom(code: str) -> tuple[dict[str, int], float, float]:
    if code in _BASE:
        dims, factor, offset, _ = _BASE[code]
        return dims, factor, offset
    for size in (2, 1):
        prefix, rest = code[:size], code[size:]
        if prefix in _PREFIXES and rest in _BASE and _BASE[rest][3]:
            dims, factor, offset, _ = _BASE[rest]
            return dims, factor * _PREFIXES[prefix], offset
    raise UnitError(f"`{code}` is not a unit")


@lru_cache(maxsize=4096)
def parse_unit(code: str) -> Unit:
    """The unit behind a UCUM code such as `mg/L`, `m/s2` or `dB{mW}`.

    Raises UnitError if a part is unknown or the code is too long (40 characters).
    """
    if len(code) > 40:
        raise UnitError("a unit has at most 40 characters")
    dims: dict[str, int] = {}
    factor, offset = 1.0, 0.0
    parts = re.split(r"([./])", code)
    if parts and parts[0] == "" and len(parts) > 2:
        parts = parts[1:]
    sign = 1
    terms = 0
    for part in parts:
        if part in ("/", "."):
            sign = -1 if part == "/" else 1
            continue
        match = _TERM.match(part)
        if not match or not part:
            raise UnitError(f"`{part or code}` is not a unit")
        terms += 1
        if match["atom"] is None:
            if match["note"] is None:
                raise UnitError(f"`{part}` is not a unit")
            sign = 1
            continue
        atom, power = match["atom"], int(match["power"] or 1) * sign
        if not -9 <= power <= 9:
            raise UnitError(f"the exponent of `{part}` is beyond 9")
        atom_dims, atom_factor, atom_offset = _atom(atom)
        for base, exponent in atom_dims.items():
            dims[base] = dims.get(base, 0) + exponent * power
        factor *= atom_factor**power
        offset = atom_offset
        sign = 1
    if terms > 1:
        offset = 0.0
    dimension = tuple(sorted((base, exponent) for base, exponent in dims.items() if exponent))
    return Unit(code, dimension, factor, offset)


def convert(value: float, source: Unit, target: Unit, *, difference: bool = False) -> float:
    """`value` of `source` on the scale `target`; `difference` leaves the zeros of the scales out.

    Works on arrays as well. Raises UnitError across dimensions.
    """
    if source.dimension != target.dimension:
        raise UnitError(f"{source.code} cannot be converted to {target.code}")
    if source.code == target.code or (source.factor == target.factor and source.offset == target.offset):
        return value
    if difference:
        return value * (source.factor / target.factor)
    return (value * source.factor + source.offset - target.offset) / target.factor


def describe(dimension: Dimension) -> str:
    """A dimension in words, as used in error messages: `mass`, `length/time`."""
    if not dimension:
        return "a plain number"
    names = {
        (("length", 1), ("mass", 1), ("time", -2)): "a force",
        (("length", -1), ("mass", 1), ("time", -2)): "a pressure",
        (("current", -1), ("length", 2), ("mass", 1), ("time", -3)): "a voltage",
        (("length", -3), ("mass", 1)): "a concentration",
        (("length", 1), ("time", -1)): "a speed",
        (("length", 3),): "a volume",
        (("time", -1),): "a rate",
    }
    if dimension in names:
        return names[dimension]
    if len(dimension) == 1 and dimension[0][1] == 1:
        word = dimension[0][0]
        return ("an " if word[0] in "aeiou" else "a ") + word
    return " ".join(base if exponent == 1 else f"{base}^{exponent}" for base, exponent in dimension)
