"""The kinds of definitions that there are. Another kind is a line here."""

from server.rules.conditions import RULES_OF_CONDITIONS
from server.rules.decoders import RULES_OF_DECODERS
from server.rules.kinds import RULES
from server.rules.routes import RULES_OF_ROUTES

RULES.add(RULES_OF_DECODERS)
RULES.add(RULES_OF_ROUTES)
RULES.add(RULES_OF_CONDITIONS)

__all__ = ["RULES"]
