"""The checks that a payload can carry, by name: sums, and CRCs as the catalogue of parametrised algorithms has them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Crc:
    """A CRC of `width` bits: polynomial (normal form), start, reflection of input and output, final XOR."""

    width: int
    polynomial: int
    start: int
    reflect_in: bool
    reflect_out: bool
    final: int


CRCS: dict[str, Crc] = {
    "crc8_smbus": Crc(8, 0x07, 0, False, False, 0),
    "crc8_maxim": Crc(8, 0x31, 0, True, True, 0),
    "crc8_autosar": Crc(8, 0x2F, 0xFF, False, False, 0xFF),
    "crc8_rohc": Crc(8, 0x07, 0xFF, True, True, 0),
    "crc16_modbus": Crc(16, 0x8005, 0xFFFF, True, True, 0),
    "crc16_arc": Crc(16, 0x8005, 0, True, True, 0),
    "crc16_usb": Crc(16, 0x8005, 0xFFFF, True, True, 0xFFFF),
    "crc16_ibm3740": Crc(16, 0x1021, 0xFFFF, False, False, 0),
    "crc16_xmodem": Crc(16, 0x1021, 0, False, False, 0),
    "crc16_kermit": Crc(16, 0x1021, 0, True, True, 0),
    "crc16_x25": Crc(16, 0x1021, 0xFFFF, True, True, 0xFFFF),
    "crc16_dnp": Crc(16, 0x3D65, 0, True, True, 0xFFFF),
    "crc24_openpgp": Crc(24, 0x864CFB, 0xB704CE, False, False, 0),
    "crc32": Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, True, 0xFFFFFFFF),
    "crc32_bzip2": Crc(32, 0x04C11DB7, 0xFFFFFFFF, False, False, 0xFFFFFFFF),
    "crc32_iscsi": Crc(32, 0x1EDC6F41, 0xFFFFFFFF, True, True, 0xFFFFFFFF),
}
SUMS = ("sum8", "sum16", "xor8", "negated8", "fletcher16", "sum16_words")
NAMES = (*CRCS, "crc", *SUMS)
