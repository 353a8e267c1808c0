"""A decoder from SenML packs: the standard says what names, units and times mean, so that nobody has to."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import lru_cache

from ..decoding.sources import Measured, quantity, read_senml
from ..language import tree
from ..language.build import quoted
from ..language.decoders import check_decoder
from ..language.decoders import lines as written
from ..language.definitions import parse
from ..language.problems import DefinitionError
from .making import field_name, place, printed

# SenML's registry (RFC 8428, RFC 8798) where its symbol is not the UCUM code.
UNITS = {
    "l": "L",
    "l/s": "L/s",
    "%RH": "%",
    "%EL": "%",
    "EL": "s",
    "lat": "deg",
    "lon": "deg",
    "pH": "[pH]",
    "dBW": "dB{W}",
    "count": "1",
    "/": "1",
    "1/s": "/s",
    "1/min": "/min",
    "beat/min": "/min",
    "beats": "1",
    "B": "By",
    "VA": "V.A",
    "VAs": "V.A.s",
    "var": "V.A",
    "vars": "V.A.s",
    "kVA": "kV.A",
    "kvar": "kV.A",
    "NTU": "{NTU}",
    "dBm": "dB{mW}",
    "/100": "%",
    "/1000": "[ppth]",
    "ppm": "[ppm]",
    "Ah": "A.h",
    "Wh": "W.h",
    "kWh": "kW.h",
    "ohm": "Ohm",
    "GB": "GBy",
    "B/s": "By/s",
    "MB/s": "MBy/s",
    "m3/h": "m3/h",
}
MOST = 64
LONGEST_WORD = 100
UNIT = re.compile(r"[A-Za-z0-9%/._*^()\[\]:+-]{1,24}")  # what a sender may call a unit
NOTE = re.compile(r"# ([A-Za-z0-9._-]+): bytes, whose meaning only a data sheet tells")


def is_senml(payload: bytes) -> bool:
    """Whether a payload is a SenML pack with at least one record."""
    if not (payload[:1] and (0x80 <= payload[0] <= 0x9F or payload.lstrip()[:1] == b"[")):
        return False
    found, wrong = read_senml(payload, 0)
    return wrong is None and bool(found)


@dataclass(frozen=True)
class Made:
    """A decoder for SenML as it stands: its tree, the quantities that it reads or notes, whether it divides packs."""

    node: written.Decoder
    read: frozenset[str]
    noted: frozenset[str]
    divided: bool


@lru_cache(maxsize=256)
def made_of(text: str) -> Made | None:
    """What a text made before speaks of; None where it is no decoder that can be read."""
    try:
        node, problems, _ = parse(text)
    except DefinitionError:
        return None
    if problems or not isinstance(node, written.Decoder):
        return None
    words = {_word(line.address) for line in node.body if isinstance(line, written.Read)}
    noted = {found[1] for line in text.split("\n") if (found := NOTE.fullmatch(line.strip()))}
    divided = any(isinstance(line, written.Device) for line in node.body)
    return Made(node, frozenset(w for w in words if w), frozenset(noted), divided)


def _word(address: written.Address) -> str | None:
    if not isinstance(address, written.InDocument) or not address.paths or not address.paths[0]:
        return None
    first = address.paths[0][0]
    return first if isinstance(first, str) else None


def known_quantities(text: str) -> set[str]:
    """The quantities that a text made so speaks of."""
    made = made_of(text)
    return set(made.read | made.noted) if made is not None else set()


@dataclass
class Seen:
    """What packs say of one quantity."""

    kind: str
    units: dict[str, None] = field(default_factory=dict)  # in the order of their appearance
    strange: bool = True  # it came with a unit that is none, and never otherwise
    total: bool = False

    def add(self, unit: str | None, measured: Measured) -> None:
        self.kind = self.kind or measured.kind
        self.total = self.total or measured.sum is not None
        if unit and UNIT.fullmatch(unit):
            self.units[unit] = None
        self.strange = self.strange and bool(unit) and not self.units


def from_senml(payloads: Iterable[bytes], name: str, onto: str | None = None) -> str | None:
    """The text of a decoder that takes every quantity of the packs, or None where they have none, or none more.

    name: of the decoder. onto: a text made so before, to which the quantities that it lacks are added. Those whose
    data are bytes are left for a person; they stand in a comment. Quantities of more than 100 characters, and those
    whose unit is no unit, are left out. Where one pack speaks of several things, what stands before the quantity
    names the device of each record.
    """
    seen: dict[str, Seen] = {}
    mark = None
    for payload in payloads:
        found, wrong = read_senml(payload, 0)
        if wrong is None:
            mark = mark or _mark(full for full, *_ in found)
            for full, unit, _, measured in found:
                seen.setdefault(quantity(full), Seen(measured.kind)).add(unit, measured)
    before = made_of(onto) if onto is not None else None
    if onto is not None and before is None:
        return None
    body: list[written.Statement] = list(before.node.body) if before is not None else []
    known = before.read | before.noted if before is not None else frozenset()
    own = {line.name for line in body if isinstance(line, written.Read)}
    taken = own | written.PACK_NAMES
    noted = sorted(before.noted) if before is not None else []
    if mark and not (before is not None and before.divided):
        call = tree.Call(place(1), "before_last", (tree.Name(place(1), "name"), tree.String(place(1), mark)))
        body.insert(0, written.Device(place(1), call))
    room = MOST - len(own)
    for word, one in seen.items():
        if word in known or len(word) > LONGEST_WORD or one.strange or room <= 0:
            continue
        if one.kind == "data":
            noted.append(word)
        elif one.kind:
            name_of = field_name(word, taken)
            body.append(_read((word,), name_of, one.kind, one.units))
            taken.add(name_of)
            room -= 1
        if one.total and room > 0:
            name_of = field_name(f"{word}_total", taken)
            body.append(_read((word, "sum"), name_of, "number", ()))
            taken.add(name_of)
            room -= 1
    if not any(isinstance(line, written.Read) for line in body):
        return None
    comments = {1: "Made from the names and units of SenML packs"}
    for k, word in enumerate(noted, 3):
        comments[k] = f"{word}: bytes, whose meaning only a data sheet tells"
    lines = tuple(replace(line, span=place(k)) for k, line in enumerate(body, 3 + len(noted)))
    text = printed(written.Decoder(place(2), name, "senml", None, None, lines), comments)
    return None if text == onto else text


def _mark(names: Iterable[str]) -> str | None:
    """What stands between the name of a device and its quantities, where a pack has quantities of several devices."""
    own = list(names)
    for mark in "/:":
        devices = {name.rpartition(mark)[0] for name in own}
        if len(devices) > 1 and "" not in devices:
            return mark
    return None


def teaches(payload: bytes, text: str) -> bool:
    """Whether a pack has what a text made so lacks: quantities, or that there are several devices."""
    found, wrong = read_senml(payload, 0)
    made = made_of(text)
    if wrong is not None or made is None:
        return False
    usable = [(quantity(name), unit) for name, unit, *_ in found]
    fresh = any(
        word not in made.read and word not in made.noted and len(word) <= LONGEST_WORD
        for word, unit in usable
        if not unit or UNIT.fullmatch(unit)
    )
    return fresh or not made.divided and _mark(name for name, *_ in found) is not None


def _read(path: tuple[str, ...], name: str, kind: str, units: Iterable[str]) -> written.Read:
    if kind == "number":
        return _number(path, name, _unit(units))
    at = place(1)
    plain = written.Flag(at) if kind == "flag" else written.Plain(at, kind)
    return written.Read(at, written.InDocument(at, (path,)), name, at, plain, None, None, ())


def _unit(units: Iterable[str]) -> str | written.UnitBy | None:
    """The unit, or several by what a record says; those that do not go together with the first are left out."""
    arms: list[written.UnitArm] = []
    for word in units:
        known = UNITS.get(word, word)
        for code in (known, "{" + (re.sub(r"[^A-Za-z0-9_%]", "", known)[:20] or "unit") + "}"):
            more = written.UnitArm(word, quoted(word), (), code)
            if _stands(written.UnitBy(place(1), "unit", (*arms, more))):
                arms.append(more)
                break
    if len(arms) == 1 and arms[0].option == arms[0].unit and _stands(arms[0].unit):
        return arms[0].unit
    return written.UnitBy(place(1), "unit", tuple(arms)) if arms else None


@lru_cache(maxsize=1024)
def _stands(unit: str | written.UnitBy) -> bool:
    """Whether the language takes a unit, or several by a choice: they are units, and of one dimension."""
    try:
        text = printed(written.Decoder(place(1), "d", "senml", None, None, (_number(("x",), "x", unit),)))
    except ValueError:
        return False
    plan, _ = check_decoder(text)
    return plan is not None


def _number(path: tuple[str, ...], name: str, unit: str | written.UnitBy | None) -> written.Read:
    at = place(1)
    plain = written.Plain(at, "number")
    return written.Read(at, written.InDocument(at, (path,)), name, at, plain, unit, at if unit else None, ())
