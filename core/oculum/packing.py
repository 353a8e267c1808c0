"""Arrays and a few words about them as bytes, to be taken up again to the very bit."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

import numpy as np


def packed(about: dict[str, Any], arrays: Mapping[str, np.ndarray]) -> bytes:
    """The length of a heading in eight bytes, the heading as JSON, then the arrays one after the other."""
    listed, parts, place = {}, [], 0
    for name, array in arrays.items():
        body = np.ascontiguousarray(array).tobytes()
        listed[name] = [array.dtype.str, list(array.shape), place]
        parts.append(body)
        place += len(body)
    heading = json.dumps(about | {"arrays": listed}).encode()
    return b"".join([len(heading).to_bytes(8, "big"), heading, *parts])


def unpacked(body: bytes) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    begin = 8 + int.from_bytes(body[:8], "big")
    about = json.loads(body[8:begin])
    arrays = {}
    for name, (kind, shape, place) in about.pop("arrays").items():
        count = int(np.prod(shape))
        arrays[name] = np.frombuffer(body, kind, count, begin + place).reshape(shape)
    return about, arrays
