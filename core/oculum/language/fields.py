"""Fields, as decoders and device types give them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

FieldKind = Literal["number", "integer", "flag", "code", "text", "position", "time"]


@dataclass(frozen=True)
class FieldSpec:
    """A field as a decoder or a device type gives it. `unit` is a UCUM code; counts have `1`."""

    name: str
    kind: FieldKind
    unit: str | None = None
    codes: tuple[tuple[int, str], ...] = ()
    wide: bool = False  # an integer of more than 53 bits, kept as digits
    difference: bool = False  # of two temperatures: the zero of its scale does not count

    def as_dict(self) -> dict[str, Any]:
        found = {"name": self.name, "kind": self.kind, "unit": self.unit, "codes": dict(self.codes), "wide": self.wide}
        return {**found, "difference": True} if self.difference else found

    @classmethod
    def from_dict(cls, found: dict[str, Any]) -> FieldSpec:
        codes = tuple((int(number), text) for number, text in (found.get("codes") or {}).items())
        return cls(
            found["name"],
            found["kind"],
            found.get("unit"),
            codes,
            bool(found.get("wide")),
            bool(found.get("difference")),
        )
