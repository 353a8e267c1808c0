"""The form of a line: its parts are stretches of the text, and what it changes is still a definition."""

from __future__ import annotations

from pathlib import Path

import pytest

from oculum.language.definitions import form, parse
from oculum.language.form import Slot

ROOT = Path(__file__).resolve().parents[2]
EXAMPLES = [
    ROOT / "examples" / f"{name}.ocu"
    for name in (
        "raft_buoy",
        "work_boat",
        "oxygen_low",
        "mooring_drags",
        "lamp_weak",
        "sheets/weather_mast",
        "sheets/gape_sensor",
    )
]
SENSIBLE = {
    "scale": "/ 10",
    "unit": "V",
    "expected range": "0 to 5",
    "converted into": "V",
    "at and below the site": '"outer sound"',
    "labels": 'stage = "spat"',
    "deadband": "1 V",
    "for at least": "5 min",
    "each": "10 s later",
}


def changed(text: str, line: int, slot: Slot, value: str) -> str:
    """The text with another value in one slot; an empty value takes an optional slot out."""
    rows = text.split("\n")
    row = rows[line - 1]
    if not value and slot.optional:
        rows[line - 1] = row[: slot.whole - 1] + row[slot.end_column - 1 :]
    elif slot.column == slot.end_column:
        rows[line - 1] = row[: slot.column - 1] + slot.prefix + value + row[slot.column - 1 :]
    else:
        rows[line - 1] = row[: slot.column - 1] + value + row[slot.end_column - 1 :]
    return "\n".join(rows)


def slots_of(path: Path) -> list[tuple[str, int, Slot]]:
    text = path.read_text()
    return [
        (text, line, slot)
        for line in range(1, text.count("\n") + 2)
        if (found := form(text, line))
        for slot in found.slots
    ]


def sound(text: str) -> bool:
    return not parse(text)[1]


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_every_part_is_a_stretch_of_its_line(path: Path) -> None:
    for text, line, slot in slots_of(path):
        row = text.split("\n")[line - 1]
        assert row[slot.column - 1 : slot.end_column - 1] == slot.text, (row, slot)
        if slot.text:
            assert changed(text, line, slot, slot.text) == text


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_optional_parts_come_and_go_and_it_stays_a_definition(path: Path) -> None:
    for text, line, slot in slots_of(path):
        if slot.optional and slot.text:
            without = changed(text, line, slot, "")
            assert sound(without), (slot, without.split("\n")[line - 1])
            assert len(without) < len(text)
        elif slot.optional:
            value = slot.options[0] if slot.options else SENSIBLE[slot.label]
            filled = changed(text, line, slot, value)
            assert sound(filled), (slot, filled.split("\n")[line - 1])
            again = form(filled, line)
            assert again is not None and any(s.text == value for s in again.slots), (slot, filled.split("\n")[line - 1])


def test_words_in_texts_and_comments_are_no_parts() -> None:
    text = 'decoder d for bytes\n  byte 0  a  u8  V  missing "hidden into mV" raw 0xFF  # hidden within 1 to 2\n'
    found = form(text, 2)
    assert found is not None
    assert {s.label: s.text for s in found.slots} == {
        "where": "byte 0",
        "field": "a",
        "kept as": "u8",
        "scale": "",
        "unit": "V",
        "expected range": "",
        "missing": '"hidden into mV" raw 0xFF',
        "missing too": "",
        "converted into": "",
        "hidden": "",
    }


def test_what_cannot_be_read_has_no_form() -> None:
    assert form("decoder d for bytes\n  byte 0  a  q8 q\n", 2) is None
    assert form("decoder d for bytes\n\n# nothing\n  byte 0  a  u8\n", 3) is None
    assert form("", 1) is None and form("decoder d for bytes\n  byte 0  a  u8\n", 99) is None
