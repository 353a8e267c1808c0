"""Changing what others may be changing: under a lock, and only from the state that was seen.

A thing has a revision that each change counts up. Answers carry it as their ETag; a request that sends it back as
If-Match is carried out only if nothing has changed since (RFC 9110).
"""

from __future__ import annotations

import re
from typing import Any, TypeVar

from django.db import connection, models
from django.utils import timezone
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response

from server.records.people.models import Record
from server.rules.refusal import Refused
from server.store.turns import trees_turn

Thing = TypeVar("Thing", bound=models.Model)


def etag(revision: int) -> str:
    return f'"{revision}"'


def tagged(response: Response, revision: int) -> Response:
    response.headers["ETag"] = etag(revision)
    return response


def asked_revision(request: Request) -> int | None:
    """The revision in If-Match; None where there is none, or any will do. Raises Refused."""
    text = request.headers.get("If-Match", "").strip()
    if text in ("", "*"):
        return None
    found = re.fullmatch(r'(?:W/)?"?([0-9]{1,15})"?', text, re.ASCII)
    if found is None:
        raise Refused("precondition failed", 'If-Match is the ETag of an answer, such as "3"', 412)
    return int(found[1])


def changing(request: Request, things: models.QuerySet[Thing], about: str, **lookup: Any) -> Thing:
    """The thing that is to be changed, locked until the end of the transaction. Raises Refused (412) and Http404.

    about: what stands in the record for it, to say who changed it.
    """
    found = get_object_or_404(things.select_for_update(of=("self",)), **lookup)
    wanted, is_now = asked_revision(request), int(found.revision)  # type: ignore[attr-defined]
    if wanted is not None and wanted != is_now:
        raise Refused(
            "changed meanwhile",
            f"{about} was changed meanwhile{_by_whom(about)}; look at it again",
            412,
            revision=is_now,
        )
    return found


def _by_whom(about: str) -> str:
    last = Record.objects.filter(about=about[:200]).order_by("-id").first()
    if last is None or not last.who:
        return ""
    minutes = int((timezone.now() - last.at).total_seconds() // 60)
    return f" by {last.who}, {'just now' if minutes < 1 else f'{minutes} min ago' if minutes < 120 else 'earlier'}"


def lock_trees() -> None:
    """Who changes what lies in what, or speaks through what, does so alone, until the end of the transaction."""
    with connection.cursor() as cursor:
        trees_turn(cursor)
