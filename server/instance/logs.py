"""Log lines in which a stranger's text can do no harm."""

from __future__ import annotations

import logging

from oculum.text import harmless


class SafeFormatter(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        text = super().format(record)
        return "\n".join(harmless(line, 4000) for line in text.split("\n"))
