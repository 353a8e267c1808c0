"""Units of measure by UCUM code, with dimensions, factors and offsets.

A unit is a linear scale on a dimension: value in base units = value * factor + offset. Codes and
dimensions are checked here; sizes are those of a units library, as exact fractions in a table.
Source of symbols: The Unified Code for Units of Measure, case-sensitive codes.
"""

from __future__ import annotations

import json
import math
import re
import tomllib
import unicodedata
from dataclasses import dataclass
from fractions import Fraction
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

from oculum.errors import OculumError

Dimension = tuple[tuple[str, int], ...]


class UnitError(OculumError, ValueError):
    """A unit code that cannot be understood; the message says which part and why."""


@dataclass(frozen=True)
class Unit:
    """One unit: `code` as written, `dimension` as sorted (base, exponent) pairs.

    `factor` and `offset` lead to base units, exactly (offset is nonzero for temperature scales only).
    """

    code: str
    dimension: Dimension
    parts: tuple[tuple[str, Fraction, int], ...] = ()  # atom, prefix, exponent
    scale: Fraction | None = None  # of a unit that was calculated

    @property
    def factor(self) -> Fraction:
        if self.scale is not None:
            return self.scale
        result = Fraction(1)
        for atom, prefix, exponent in self.parts:
            result *= (prefix * _size(atom)[0]) ** exponent
        return result

    @property
    def offset(self) -> Fraction:
        return _size(self.parts[0][0])[1] if self.is_scale else Fraction(0)

    @property
    def is_scale(self) -> bool:
        """True for a scale with a zero of its own (Cel, [degF]): absolute and difference differ."""
        return (
            self.scale is None
            and len(self.parts) == 1
            and self.parts[0][0] in ("Cel", "[degF]")
            and self.parts[0][2] == 1
        )


# atom -> (dimension, its name in the units library Pint or None for a base of our own, takes prefixes)
_LENGTH, _TIME, _SPEED = {"length": 1}, {"time": 1}, {"length": 1, "time": -1}
_FORCE = {"mass": 1, "length": 1, "time": -2}
_PRESSURE = {"mass": 1, "length": -1, "time": -2}
_ATOMS: dict[str, tuple[dict[str, int], str | None, bool]] = {
    "m": (_LENGTH, "meter", True),
    "s": (_TIME, "second", True),
    "g": ({"mass": 1}, "gram", True),
    "K": ({"temperature": 1}, "kelvin", True),
    "A": ({"current": 1}, "ampere", True),
    "cd": ({"luminosity": 1}, "candela", True),
    "mol": ({"amount": 1}, "mole", True),
    "rad": ({"angle": 1}, "radian", True),
    "deg": ({"angle": 1}, "degree", False),
    "Cel": ({"temperature": 1}, "degC", True),
    "[degF]": ({"temperature": 1}, "degF", False),
    "min": (_TIME, "minute", False),
    "h": (_TIME, "hour", False),
    "d": (_TIME, "day", False),
    "wk": (_TIME, "week", False),
    "mo": (_TIME, "month", False),
    "a": (_TIME, "year", False),
    "L": ({"length": 3}, "liter", True),
    "l": ({"length": 3}, "liter", True),
    "t": ({"mass": 1}, "metric_ton", True),
    "Hz": ({"time": -1}, "hertz", True),
    "Bq": ({"time": -1}, "becquerel", True),
    "Gy": ({"length": 2, "time": -2}, "gray", True),
    "Sv": ({"length": 2, "time": -2}, "sievert", True),
    "N": (_FORCE, "newton", True),
    "gf": (_FORCE, "gram_force", True),
    "Pa": (_PRESSURE, "pascal", True),
    "bar": (_PRESSURE, "bar", True),
    "atm": (_PRESSURE, "standard_atmosphere", False),
    "m[Hg]": (_PRESSURE, "meter_Hg", True),
    "m[H2O]": (_PRESSURE, "meter_H2O", True),
    "[psi]": (_PRESSURE, "psi", False),
    "J": ({"mass": 1, "length": 2, "time": -2}, "joule", True),
    "W": ({"mass": 1, "length": 2, "time": -3}, "watt", True),
    "V": ({"mass": 1, "length": 2, "time": -3, "current": -1}, "volt", True),
    "Ohm": ({"mass": 1, "length": 2, "time": -3, "current": -2}, "ohm", True),
    "S": ({"mass": -1, "length": -2, "time": 3, "current": 2}, "siemens", True),
    "F": ({"mass": -1, "length": -2, "time": 4, "current": 2}, "farad", True),
    "C": ({"current": 1, "time": 1}, "coulomb", True),
    "lm": ({"luminosity": 1}, "lumen", True),
    "lx": ({"luminosity": 1, "length": -2}, "lux", True),
    "T": ({"mass": 1, "time": -2, "current": -1}, "tesla", True),
    "[g]": ({"length": 1, "time": -2}, "standard_gravity", True),
    "[kn_i]": (_SPEED, "knot", False),
    "[nmi_i]": (_LENGTH, "nautical_mile", False),
    "[ft_i]": (_LENGTH, "foot", False),
    "[in_i]": (_LENGTH, "inch", False),
    "[mi_i]": (_LENGTH, "mile", False),
    "%": ({}, "percent", False),
    "[ppth]": ({}, "permille", False),
    "[ppm]": ({}, "ppm", False),
    "[ppb]": ({}, "nanogram / gram", False),
    "[pH]": ({"acidity": 1}, None, False),
    "B": ({"level": 1}, None, True),
    "bit": ({"data": 1}, "bit", True),
    "By": ({"data": 1}, "byte", True),
    "1": ({}, None, False),
}
_LOCAL: dict[str, tuple[Dimension, Fraction]] = {}  # declared in a file: dimension and factor

_PREFIXES: dict[str, Fraction] = {
    **{
        letter: Fraction(10) ** power
        for letter, power in (
            ("Y", 24),
            ("Z", 21),
            ("E", 18),
            ("P", 15),
            ("T", 12),
            ("G", 9),
            ("M", 6),
            ("k", 3),
            ("h", 2),
            ("da", 1),
            ("d", -1),
            ("c", -2),
            ("m", -3),
            ("u", -6),
            ("n", -9),
            ("p", -12),
            ("f", -15),
        )
    },
    "Ki": Fraction(1024),
    "Mi": Fraction(1024**2),
    "Gi": Fraction(1024**3),
}

_NOTED = r"[!$-+\--Z^_a-z|~]"  # what may stand in the braces and brackets of a unit: no quote, no mark of a comment
_TERM = re.compile(
    rf"(?P<atom>(?:%|1|[A-Za-z]+(?:\[{_NOTED}+\])?|\[{_NOTED}+\]|\{{{_NOTED}+\}}(?=$|-?[0-9]|[./])))?"
    rf"(?P<note>\{{{_NOTED}*\}})?(?P<power>-?[0-9]+)?\Z"
)


@cache
def _size(atom: str) -> tuple[Fraction, Fraction]:
    """Factor and offset of an atom to its base units, exactly."""
    if atom in _LOCAL:
        return _LOCAL[atom][1], Fraction(0)
    if _ATOMS[atom][1] is None:
        return Fraction(1), Fraction(0)
    factor, offset = _sizes()[atom]
    return Fraction(factor), Fraction(offset)


@cache
def _sizes() -> dict[str, tuple[str, str]]:
    """Factor and offset of each atom, as fractions: as the units library has them, which a test holds them against."""
    return json.loads(Path(__file__).with_name("unit_sizes.json").read_text("utf-8"))  # type: ignore[no-any-return]


def known_codes() -> list[str]:
    """The plain unit codes of the table, for completion and for suggestions."""
    return [code for code in (*_ATOMS, *_LOCAL) if code != "1"]


@dataclass(frozen=True)
class UnitWords:
    """A unit as it is looked for: by its code, as it is printed, by what people call it and measure in it."""

    code: str
    printed: str
    words: str


@cache
def _common() -> list[tuple[str, str]]:
    return [
        (code, words) for code, words in json.loads(Path(__file__).with_name("common_units.json").read_text("utf-8"))
    ]


def units_in_words() -> list[UnitWords]:
    """The units that are measured in most, then the plain codes of the table."""
    common = dict(_common())
    rest = {code: "" for code in known_codes() if code not in common}
    return [UnitWords(code, printed(code), words) for code, words in (common | rest).items()]


def declare(path: Path) -> None:
    """Takes in local units from a TOML file.

    Each `[[unit]]` has a `code` in brackets or braces and either `dimension`, a base of its own that mixes
    with nothing else, or `equals`, as in "1.8288 m". Raises UnitError.
    """
    try:
        found = tomllib.loads(path.read_text(encoding="utf-8")).get("unit", [])
    except (OSError, ValueError) as error:
        raise UnitError(f"{path.name}: {error}") from None
    for entry in found:
        code = str(entry.get("code", ""))
        if not re.fullmatch(r"\[[^\]\s]{1,20}\]|\{[^}\s]{1,20}\}", code) or code in _ATOMS:
            raise UnitError(f"{path.name}: `{code}` is no code for a local unit: write it in brackets, as `[psu]`")
        if "dimension" in entry:
            _LOCAL[code] = (((str(entry["dimension"]), 1),), Fraction(1))
        else:
            amount, _, unit = str(entry.get("equals", "")).partition(" ")
            try:
                base = parse_unit(unit)
                _LOCAL[code] = (base.dimension, Fraction(amount) * base.factor)
            except ValueError:
                raise UnitError(
                    f'{path.name}: `{code}` says neither its `dimension` nor what it `equals`, as in "1.8288 m"'
                ) from None
    parse_unit.cache_clear()
    _size.cache_clear()


def _atom(code: str) -> tuple[dict[str, int], Fraction, str]:
    if code in _LOCAL:
        return dict(_LOCAL[code][0]), Fraction(1), code
    if code in _ATOMS:
        return _ATOMS[code][0], Fraction(1), code
    for size in (2, 1):
        prefix, rest = code[:size], code[size:]
        if prefix in _PREFIXES and rest in _ATOMS and _ATOMS[rest][2]:
            return _ATOMS[rest][0], _PREFIXES[prefix], rest
    raise UnitError(f"`{code}` is not a unit")


@lru_cache(maxsize=4096)
def parse_unit(code: str) -> Unit:
    """The unit behind a UCUM code such as `mg/L`, `m/s2` or `dB{mW}`.

    Raises UnitError if a part is unknown or the code is too long (40 characters).
    """
    if len(code) > 40:
        raise UnitError("a unit has at most 40 characters")
    dims: dict[str, int] = {}
    found: list[tuple[str, Fraction, int]] = []
    parts = re.split(r"([./])", code)
    if parts and parts[0] == "" and len(parts) > 2:
        parts = parts[1:]
    sign = 1
    for part in parts:
        if part in ("/", "."):
            sign = -1 if part == "/" else 1
            continue
        match = _TERM.match(part)
        if not match or not part:
            raise UnitError(f"`{part or code}` is not a unit")
        atom, note = match["atom"], match["note"]
        if atom is not None and atom.startswith("{") and atom not in _LOCAL:
            atom, note = None, atom
        if atom is None:
            if note is None:
                raise UnitError(f"`{part}` is not a unit")
            sign = 1
            continue
        power = int(match["power"] or 1) * sign
        if not -9 <= power <= 9:
            raise UnitError(f"the exponent of `{part}` is beyond 9")
        atom_dims, prefix, name = _atom(atom)
        for base, exponent in atom_dims.items():
            dims[base] = dims.get(base, 0) + exponent * power
        found.append((name, prefix, power))
        sign = 1
    dimension = tuple(sorted((base, exponent) for base, exponent in dims.items() if exponent))
    return Unit(code, dimension, tuple(found))


def same_scale(source: Unit, target: Unit) -> bool:
    """Whether a number means the same in both units, which have one dimension."""
    return source.code == target.code or (source.factor == target.factor and source.offset == target.offset)


def between(source: Unit, target: Unit, *, difference: bool = False) -> tuple[float, float, float]:
    """(a, b, c) with value in `target` = (value in `source` * a + b) / c, whole numbers where they are small enough.

    `difference` leaves the zeros of the scales out. Raises UnitError across dimensions.
    """
    if source.dimension != target.dimension:
        raise UnitError(f"{source.code} cannot be converted to {target.code}")
    if source.code == target.code:
        return 1.0, 0.0, 1.0
    factor = source.factor / target.factor
    offset = Fraction(0) if difference else (source.offset - target.offset) / target.factor
    c = math.lcm(factor.denominator, offset.denominator)
    a, b = int(factor * c), int(offset * c)
    if max(abs(a), abs(b), c) >= 2**53:
        return float(factor), float(offset), 1.0
    return float(a), float(b), float(c)


def convert(value: Any, source: Unit, target: Unit, *, difference: bool = False) -> Any:
    """`value` (a number or an array) of `source` on the scale `target`. Raises UnitError across dimensions."""
    a, b, c = between(source, target, difference=difference)
    return (value * a + b) / c if (a, b, c) != (1.0, 0.0, 1.0) else value


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


declare(Path(__file__).parent / "units.toml")


@cache
def _printing() -> dict[str, dict[str, str]]:
    """How symbols are printed: parts of a term, whole terms, raised digits. The interface reads the same file."""
    found: dict[str, dict[str, str]] = json.loads(Path(__file__).with_name("printed_units.json").read_text("utf-8"))
    return found


def _printed_term(term: str) -> str:
    table = _printing()
    if term in table["whole"]:
        return table["whole"][term]
    symbol, power = re.fullmatch(r"(.*?)(-?[0-9]*)", term, re.DOTALL).groups()  # type: ignore[union-attr]
    if symbol == "":
        symbol, power = power, ""
    end = max((w for w in table["words"] if symbol.endswith(w)), key=len, default="")
    start = symbol[: len(symbol) - len(end)]
    start = re.sub(r"\[([^\]]*)\]", r"\1", start)
    start = re.sub(r"\{([^}]*)\}", lambda note: f"({note[1]})" if note.start() else note[1], start)
    if start.startswith("u") and (len(start) > 1 or end):
        start = "µ" + start[1:]
    return start + table["words"].get(end, end) + "".join(table["raised"][c] for c in power)


def measured(number: str, code: str | None) -> str:
    """A written number with its unit as people print it; alone where it has none, or counts."""
    return f"{number} {printed(code or '')}".rstrip()


@cache
def _usual() -> dict[str, str]:
    """How units are often written, and their codes: what people print, and what data sheets say."""
    found: dict[str, str] = json.loads(Path(__file__).with_name("usual_units.json").read_text("utf-8"))
    table = {text: code for code, text in _printing()["words"].items() if len(text) > 1 or text == "°"} | found
    return {text.lower(): code for text, code in table.items()} | table


def usual(written: str) -> str | None:
    """The code of a unit that is written in another way: `Cel` for `°C`, `ug/m3` for `µg/m³`; None if none is known."""
    text = unicodedata.normalize("NFKC", written.strip().replace("º", "°"))
    text = text.translate({0x3BC: "u", 0x3A9: "Ohm", 0xB7: ".", 0x22C5: ".", 0x2212: "-", 0x2044: "/"})
    table = _usual()
    terms = [
        table.get(term) or (term if is_unit(term) else table.get(term.lower(), term))
        for term in re.split(r"([./])", re.sub(r"^1/", "/", text))
    ]
    code = table.get(text) or "".join(terms)
    return code if code != written and is_unit(code) else None


def is_unit(code: str) -> bool:
    """Whether `code` is a unit that is known."""
    try:
        parse_unit(code)
    except UnitError:
        return False
    return True


@lru_cache(maxsize=4096)
def printed(code: str) -> str:
    """A unit as people print it: `°C`, `µg/L`, `m³/h`, `dBm`, `NTU`; nothing for the 1 of counts."""
    terms = re.split(r"([./])(?![^{]*\})", code)
    if terms[0] == "1" and len(terms) > 1:
        return "1" + "".join(terms[1:2]) + printed("".join(terms[2:]))
    return "".join({".": "·", "/": "/"}.get(term) or (_printed_term(term) if term else "") for term in terms)
