"""Making strangers' text harmless wherever it is kept as a sentence, shown, logged or exported."""

from __future__ import annotations

import unicodedata

# Control, direction, halves of pairs, private, unassigned, breaks of lines and paragraphs (Unicode general categories).
_OBEYED = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")


def harmless(text: str, longest: int = 200) -> str:
    """`text` on one line, characters that would be obeyed instead of shown as \\u{...}, cut to its first `longest`."""
    if len(text) <= longest and text.isprintable():
        return text
    shown = "".join(
        f"\\u{{{ord(letter):x}}}" if unicodedata.category(letter) in _OBEYED else letter for letter in text[:longest]
    )
    return shown + ("…" if len(text) > longest else "")
