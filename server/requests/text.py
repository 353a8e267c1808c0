"""Strangers' text in files for spreadsheets."""

from __future__ import annotations

_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def spreadsheet_safe(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return "'" + text if text.startswith(_FORMULA) else text
