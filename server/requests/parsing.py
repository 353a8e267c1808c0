"""Bodies of requests as JSON, without what no part of the product can keep."""

from __future__ import annotations

from collections.abc import Mapping
from typing import IO, Any

import orjson
from rest_framework.exceptions import ParseError
from rest_framework.parsers import BaseParser


class Json(BaseParser):
    """JSON (RFC 8259). NUL in texts, half characters and numbers that are none are refused with their place."""

    media_type = "application/json"

    def parse(
        self, stream: IO[Any], media_type: str | None = None, parser_context: Mapping[str, Any] | None = None
    ) -> Any:
        try:
            found = orjson.loads(stream.read())
        except orjson.JSONDecodeError as error:
            raise ParseError(f"the body is no JSON: {error.msg}, at character {error.pos}") from None
        place = _nul(found)
        if place is not None:
            raise ParseError(f"the text at `{place[:100]}` holds NUL, which is no character of a text")
        return found


def _nul(found: Any) -> str | None:
    """Where in a document a text holds NUL."""
    waiting: list[tuple[str, Any]] = [("", found)]
    while waiting:
        place, value = waiting.pop()
        if isinstance(value, str):
            if "\0" in value:
                return place or "the body"
        elif isinstance(value, dict):
            for key, inner in value.items():
                if "\0" in key:
                    return f"{place}.{key}".lstrip(".").replace("\0", "")
                waiting.append((f"{place}.{key}".lstrip("."), inner))
        elif isinstance(value, list):
            waiting += [(f"{place}[{k}]", inner) for k, inner in enumerate(value)]
    return None
