"""Decoders: the definitions that turn payloads into readings."""

from ..functions import AGGREGATES, BUILTINS, EARLIER, FUNCTIONS
from ..kinds import Kind
from .check import check_decoder, checked
from .form import form
from .printing import rows
from .syntax import SYNTAX

WORDS = {n: f.words for n, f in FUNCTIONS.items()} | AGGREGATES | EARLIER | BUILTINS
DECODER = Kind(SYNTAX, checked, rows, form, WORDS, one_a_type=True)

__all__ = ["DECODER", "check_decoder"]
