"""Routes: the definitions that clean, correct, derive, thin out and send readings."""

from ..functions import FUNCTIONS, OF_MEMBERS, OF_READING, WINDOWS
from ..kinds import Kind
from .check import check_route, checked
from .form import form
from .printing import rows
from .sentence import sentence
from .syntax import SYNTAX

WORDS = {n: f.words for n, f in FUNCTIONS.items()} | WINDOWS | OF_READING | OF_MEMBERS
ROUTE = Kind(SYNTAX, checked, rows, form, WORDS, says=sentence)

__all__ = ["ROUTE", "check_route"]
