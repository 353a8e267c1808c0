"""How many rows of one table belong to a row of another."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, IntegerField, QuerySet, Subquery
from django.db.models.functions import Coalesce


def how_many(found: QuerySet[Any], by: str) -> Coalesce:
    """Beside a row, how many of those that name it as `by`; a question of its own, since views cannot be grouped by
    their key alone.
    """
    counted = found.order_by().values(by).annotate(n=Count("pk")).values("n")
    return Coalesce(Subquery(counted, output_field=IntegerField()), 0)
