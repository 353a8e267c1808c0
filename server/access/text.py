"""Making strangers' text harmless wherever it is shown, logged or exported."""

from __future__ import annotations

import unicodedata

_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def harmless(text: str, longest: int = 200) -> str:
    """`text` on one line, control, direction and unassigned characters shown as \\u{...}, cut to `longest`."""
    parts: list[str] = []
    for letter in text[: longest + 1]:
        if unicodedata.category(letter) in ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"):
            parts.append(f"\\u{{{ord(letter):x}}}")
        else:
            parts.append(letter)
    found = "".join(parts)
    return found if len(text) <= longest else found[:longest] + "…"


def spreadsheet_safe(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return "'" + text if text.startswith(_FORMULA) else text
