"""Drafts from tables, and bytes read in every way."""

from __future__ import annotations

import struct

import numpy as np
import pytest

from oculum.batches import Payloads
from oculum.drafting.from_table import from_table, scale_of, storage_of, table_rows, unit_of
from oculum.drafting.guesses import guesses
from oculum.language.decoders import check_decoder

REGISTERS = """Register;Name;Type;Factor;Unit;Access;Values
101 bit 0;Pump running;flag;;;R;
101 bits 10-8;Phase;;;;R;0 idle, 1 filling, 2 circulating
102;Flow;unsigned 16;0.1;L/min;R;
103-104;Total volume;uint32;1;L;R;
110;Water temperature;int16;0.1;°C;R;
115;Mystery;blob;;;R;
120;Flow setpoint;uint16;0.1;L/min;W;
x;;;;;;
"""


def test_a_register_map_becomes_a_decoder() -> None:
    found = from_table(REGISTERS, "tank", "registers")
    plan, problems = check_decoder(found.text)
    assert plan is not None, problems
    assert [(f.name, f.kind, f.unit) for f in plan.all_fields] == [
        ("pump_running", "flag", None),
        ("phase", "code", None),
        ("flow", "number", "L/min"),
        ("total_volume", "number", "L"),
        ("water_temperature", "number", "Cel"),
    ]
    assert "origin 101" in found.text and "u16 / 10" in found.text
    assert [(u.row, u.why) for u in found.unread] == [
        (6, "`blob` is no type that is known"),
        (7, "can be written only: it belongs into a command"),
        (8, "`x` is no address"),
    ]


def test_a_table_between_bars_and_one_without_headings() -> None:
    text = (
        "| byte | content | kind | meaning |\n|---|---|---|---|\n| 1–2 | water temperature | signed 16 bits | raw"
        " × 0.01 Cel |\n| 8 | battery | unsigned 8 bits | |\n"
    )
    assert (
        from_table(text, "b").text
        == "decoder b for bytes, big endian\n  byte 1  water_temperature  i16 / 100  Cel\n  byte 8  battery          "
        "  u8\n"
    )
    bare = from_table("0,level,u16,0.01\n2,level,i16,1\n4,mode,u8,1\n", "b", "bytes", "little")
    assert bare.text.splitlines()[1:] == [
        "  byte 0  level    u16 / 100",
        "  byte 2  level_2  i16",
        "  byte 4  mode     u8",
    ]
    with pytest.raises(ValueError, match="this is no table"):
        from_table("just words", "b")


@pytest.mark.parametrize(
    "text,wanted",
    [
        ("UINT16", "u16"),
        ("signed 24 bits", "i24"),
        ("IEEE 754 32", "f32"),
        ("float", "f32"),
        ("word", "u16"),
        ("text", None),
    ],
)
def test_types_of_data_sheets(text: str, wanted: str | None) -> None:
    assert storage_of(text) == wanted


def test_factors_and_units_of_data_sheets() -> None:
    written = {"0,1": "/ 10", "x10": "* 10", "/ 4": "/ 4", "10^-3": "* 1e-3", "1": ""}
    assert {t: " ".join(f"{s.sign} {s.number}" for s in scale_of(t) or ()) for t in written} == written
    assert scale_of("a") is None and scale_of("0") is None

    assert [unit_of(t) for t in ("°C", "mg/L", "", "NTU", "furlongs")] == ["Cel", "mg/L", "", "{NTU}", None]
    assert table_rows("a\tb\n1\t2\n") == [["a", "b"], ["1", "2"]]


def test_a_row_named_as_a_word_of_decoders_becomes_a_field_of_another_name() -> None:
    found = from_table("byte;type;name\n0;uint8;index\n1;uint8;received\n2;uint8;stamp\n3;uint8;level\n", "d")
    plan, problems = check_decoder(found.text)
    assert plan is not None, problems
    assert found.lines == 4 and "level" in found.text


def test_the_right_way_of_reading_is_among_the_guesses() -> None:
    levels = np.linspace(3, 4, 20)
    floats = [struct.pack(">fI", v, 1_772_442_600 + 60 * i) for i, v in enumerate(levels)]
    batch = Payloads.of(floats, [0] * 20)
    ways = {(g.storage, g.order): g.values for g in guesses(batch, 0, 3)}
    assert ways["f32", "big"] == pytest.approx(levels, rel=1e-6)
    assert ways["u32", "little"][0] == struct.unpack("<I", floats[0][:4])[0]
    times = {g.storage: g for g in guesses(batch, 4, 7)}
    assert times['time u32 s since "1970-01-01"'].values[0] == 1_772_442_600
    bits = {g.storage: g.values[0] for g in guesses(batch, 0, 0, 6, 0)}
    assert bits["u7"] == floats[0][0] & 0x7F
    assert guesses(batch, 0, 8) == []
