"""Errors as the API tells them: problem documents (RFC 9457), one shape for all of them."""

from __future__ import annotations

import logging
import re
import secrets
from typing import Any

from oculum.text import harmless

CONTENT_TYPE = "application/problem+json"
TITLES = {
    400: "This cannot be carried out as it was asked",
    401: "Nobody is signed in",
    403: "This is not allowed",
    404: "There is nothing here by this name",
    405: "This cannot be done here",
    406: "This cannot be answered in the form that was asked for",
    408: "The request took too long",
    409: "This does not go together with what is there",
    412: "It was changed meanwhile",
    413: "This is too large",
    415: "This form of content is not taken",
    428: "Say which state is meant to be changed",
    429: "Too many requests",
    500: "The server failed",
    503: "The server cannot answer now",
    507: "There is no space left",
}
log = logging.getLogger("oculum.problems")


def problem(status: int, code: str, sentence: str, **more: Any) -> dict[str, Any]:
    """The body of an error.

    type, title, status, detail and instance are those of RFC 9457: a name of the kind, what the kind is, the HTTP
    status, a sentence for the person, and a name of this one error. `code` is the kind as one word or two, `number`
    stands in the line that is logged for it. What belongs to the kind besides is told beside them.
    """
    number = secrets.token_hex(5)
    kind = re.sub(r"[^a-z0-9]+", "-", code.lower()).strip("-") or "error"
    return {
        "type": f"urn:oculum:problem:{kind}",
        "title": TITLES.get(status, "This did not work"),
        "status": status,
        "detail": harmless(sentence, 2000),
        "instance": f"urn:oculum:error:{number}",
        "code": code,
        "number": number,
        **more,
    }


def note(body: dict[str, Any], method: str, path: str, error: BaseException | None = None) -> None:
    """The line by which the number of an error is found; with where it came from if the server failed."""
    level = logging.ERROR if body["status"] == 500 else logging.INFO
    log.log(
        level,
        "%s: %d %s, %s %s: %s",
        body["number"],
        body["status"],
        body["code"],
        method,
        path[:300],
        str(body["detail"])[:500],
        exc_info=error,
    )
