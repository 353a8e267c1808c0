"""Conditions: the definitions that say when an alarm is raised and cleared."""

from ..functions import CLOCK, FUNCTIONS, OF_DEVICE, OF_MEMBERS, PLACES, WINDOWS
from ..kinds import Kind
from .check import check_condition, checked
from .form import form
from .printing import rows
from .sentence import sentence
from .syntax import SYNTAX

WORDS = {n: f.words for n, f in FUNCTIONS.items()} | WINDOWS | CLOCK | PLACES | OF_DEVICE | OF_MEMBERS
CONDITION = Kind(SYNTAX, checked, rows, form, WORDS, says=sentence)

__all__ = ["CONDITION", "check_condition"]
