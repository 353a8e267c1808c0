"""A decoder's text from SenML packs: the standard says what names, units and times mean, so that nobody has to."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from ..language.decoders import check_decoder
from ..language.formatter import format_definition
from ..quantities import UnitError, parse_unit
from .sources import Measured, quantity, read_senml

# SenML's registry (RFC 8428, RFC 8798) where its symbol is not the UCUM code.
UNITS = {
    "l": "L", "l/s": "L/s", "%RH": "%", "%EL": "%", "EL": "s", "lat": "deg", "lon": "deg", "pH": "[pH]", "dBW": "dB{W}",
    "count": "1", "/": "1", "1/s": "/s", "1/min": "/min", "beat/min": "/min", "beats": "1", "B": "By", "VA": "V.A", "VAs": "V.A.s",
    "var": "V.A", "vars": "V.A.s", "kVA": "kV.A", "kvar": "kV.A", "NTU": "{NTU}", "dBm": "dB{mW}", "/100": "%", "/1000": "[ppth]", "ppm": "[ppm]",
    "Ah": "A.h", "Wh": "W.h", "kWh": "kW.h", "ohm": "Ohm", "GB": "GBy", "B/s": "By/s", "MB/s": "MBy/s", "m3/h": "m3/h",
}  # fmt: skip
MOST = 64


def is_senml(payload: bytes) -> bool:
    """Whether a payload is a SenML pack with at least one record."""
    if not (payload[:1] and (0x80 <= payload[0] <= 0x9F or payload.lstrip()[:1] == b"[")):
        return False
    found, wrong = read_senml(payload, 0)
    return wrong is None and bool(found)


def field_name(word: str, taken: set[str]) -> str:
    """A field's name from a word, another than those taken, and none that means something in the language."""
    plain = re.sub(r"[^a-z0-9]+", "_", re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", word).lower()).strip("_") or "value"
    if not plain[0].isalpha() or check_decoder(f"decoder d for senml\n  at x  {plain[:60]}  number\n")[0] is None:
        plain = f"value_{plain}"
    found, number = plain[:60], 2
    while found in taken:
        found, number = f"{plain[:56]}_{number}", number + 1
    return found


def from_senml(payloads: Iterable[bytes], name: str, onto: str | None = None) -> str | None:
    """The text of a decoder that takes every quantity of the packs, or None where they have none, or none more.

    name: of the decoder. onto: a text made so before, to which the quantities that it lacks are added. Those whose
    data are bytes are left for a person; they stand in a comment. Where one pack speaks of several things, what stands
    before the quantity names the device of each record.
    """
    seen: dict[str, tuple[str, set[str], bool]] = {}
    mark = None
    for payload in payloads:
        found, wrong = read_senml(payload, 0)
        if wrong is None:
            mark = mark or _mark(full for full, *_ in found)
            for full, unit, _, measured in found:
                _note(seen, quantity(full), unit, measured)
    rows = (
        onto.rstrip("\n").split("\n")
        if onto
        else ["# Made from the names and units of SenML packs", f"decoder {name} for senml"]
    )
    plan = check_decoder(onto)[0] if onto else None
    taken = {spec.name for spec in plan.all_fields} if plan is not None else set()
    known = known_quantities(onto or "")
    told = list(rows)
    if mark and not _taken(onto or "")[1]:
        rows.insert(
            next(i for i, row in enumerate(rows) if row.startswith("decoder ")) + 1,
            f'  device before_last(name, "{mark}")',
        )
    before = len(rows)
    room = MOST - sum(row.startswith("  at ") for row in rows)
    for word, (kind, units, total) in seen.items():
        path, note = _path(word), _note_of(word)
        if len(rows) - before >= room or word in known or note in rows:
            continue
        if kind == "data":
            rows.append(note)
        elif kind:
            field = field_name(word, taken)
            taken.add(field)
            rows.append(f"  at {path}  {field}  {_measure(kind, units)}")
        if total:
            field = field_name(f"{word}_total", taken)
            taken.add(field)
            rows.append(f"  at {path}.sum  {field}  number")
    if rows == told or not any(row.startswith("  at ") for row in rows):
        return None
    return format_definition("\n".join(rows) + "\n")


def known_quantities(text: str) -> set[str]:
    """The quantities that a text made so speaks of."""
    plain = re.findall(r"^  at ([A-Za-z_][A-Za-z0-9_]*)", text, re.M)
    quoted = re.findall(r'^  at "((?:[^"\\]|\\.)*)"', text, re.M)
    return {
        *plain,
        *(re.sub(r"\\(.)", r"\1", word) for word in quoted),
        *re.findall(r"^  # (.*): bytes, whose meaning", text, re.M),
    }


def _mark(names: Iterable[str]) -> str | None:
    """What stands between the name of a device and its quantities, where a pack has quantities of several devices."""
    own = list(names)
    for mark in "/:":
        devices = {name.rpartition(mark)[0] for name in own}
        if len(devices) > 1 and "" not in devices:
            return mark
    return None


@lru_cache(maxsize=256)
def _taken(text: str) -> tuple[frozenset[str], bool]:
    """The quantities that a text made so speaks of, and whether it tells whose each record is."""
    return frozenset(known_quantities(text)), "\n  device " in text


def teaches(payload: bytes, text: str) -> bool:
    """Whether a pack has what a text made so lacks: quantities, or that there are several devices."""
    found, wrong = read_senml(payload, 0)
    if wrong is not None:
        return False
    known, divided = _taken(text)
    words = {quantity(name) for name, *_ in found}
    return (
        any(word not in known and word[:60] not in known for word in words)
        or not divided
        and _mark(name for name, *_ in found) is not None
    )


def _note_of(word: str) -> str:
    return f"  # {word[:60]}: bytes, whose meaning only a data sheet tells"


def _note(seen: dict[str, tuple[str, set[str], bool]], word: str, unit: str | None, measured: Measured) -> None:
    kind, units, total = seen.get(word, (measured.kind, set(), False))
    seen[word] = (kind or measured.kind, units | ({unit} if unit else set()), total or measured.sum is not None)


def _path(word: str) -> str:
    return (
        word if re.fullmatch(r"[a-z][a-z0-9_]*", word) else '"' + word.replace("\\", "\\\\").replace('"', '\\"') + '"'
    )


def _measure(kind: str, units: set[str]) -> str:
    if kind != "number" or not units:
        return kind
    arms = []
    for unit in sorted(units):
        code = UNITS.get(unit, unit)
        try:
            parse_unit(code)
        except UnitError:
            code = "{" + re.sub(r"[^A-Za-z0-9_%/]", "", unit)[:20] + "}"
        arms.append((unit, code))
    if len(arms) == 1 and arms[0][0] == arms[0][1]:
        return f"number  {arms[0][1]}"
    return "number  by unit { " + ", ".join(f'"{unit}" {code}' for unit, code in arms) + " }"
