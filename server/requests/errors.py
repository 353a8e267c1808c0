"""What Django and its REST framework raise, as problem documents."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import psycopg
from django.core.exceptions import PermissionDenied, RequestDataTooBig, SuspiciousOperation
from django.db import DatabaseError, DataError, IntegrityError, InterfaceError, OperationalError
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from rest_framework import exceptions
from rest_framework.request import Request
from rest_framework.response import Response

from server.requests.problems import CONTENT_TYPE, note, problem
from server.rules.refusal import Refused
from server.store.faults import of_the_database


def words(found: Any) -> str:
    """What is wrong with a field, or with the parts of one, as a sentence."""
    if isinstance(found, dict):
        return "; ".join(named(name, words(part)) for name, part in found.items() if part)
    if isinstance(found, list) and any(isinstance(part, dict) for part in found):
        return "; ".join(f"in the {ordinal(i)}, {words(part)}" for i, part in enumerate(found, 1) if part)
    return " ".join(words(part) for part in found if part) if isinstance(found, list) else str(found)


def named(name: object, sentence: str) -> str:
    """A sentence with the part that it is about; what is about the whole stands alone."""
    if isinstance(name, int) or str(name).isdecimal():
        return f"in the {ordinal(int(str(name)) + 1)}, {sentence}"
    return sentence if name in ("", "non_field_errors") else f"{name}: {sentence}"


def ordinal(n: int) -> str:
    ending = "th" if n % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{ending}"


def of(error: Exception) -> tuple[dict[str, Any], dict[str, str]]:
    """The problem document of an error, and headers that belong to it."""
    if isinstance(error, Refused):
        return problem(error.status_code, error.code, error.sentence, **error.more), {}
    if isinstance(error, exceptions.ValidationError):
        fields = error.detail if isinstance(error.detail, dict) else {"": error.detail}
        flat = {name: words(found) for name, found in fields.items()}
        sentence = "; ".join(named(name, text) for name, text in flat.items())
        return problem(400, "invalid", sentence, fields=flat), {}
    if isinstance(error, exceptions.APIException):
        headers = {}
        if getattr(error, "auth_header", None):
            headers["WWW-Authenticate"] = str(error.auth_header)  # type: ignore[attr-defined]
        if getattr(error, "wait", None):
            headers["Retry-After"] = f"{error.wait:.0f}"  # type: ignore[attr-defined]
        return problem(error.status_code, error.default_code.replace("_", " "), str(error.detail)), headers
    if isinstance(error, Http404):
        return problem(404, "not found", "there is nothing here by this name"), {}
    if isinstance(error, PermissionDenied):
        return problem(403, "permission denied", str(error) or "this is not allowed"), {}
    if isinstance(error, RequestDataTooBig):
        return problem(413, "too large", "a request has at most 2 MiB"), {}
    if isinstance(error, SuspiciousOperation):
        return problem(400, "invalid", "this request cannot be read"), {}
    return _of_the_database(error)


def _of_the_database(error: Exception) -> tuple[dict[str, Any], dict[str, str]]:
    cause = error if isinstance(error, psycopg.Error) else error.__cause__
    if isinstance(error, OperationalError | InterfaceError) or isinstance(cause, psycopg.Error):
        state = getattr(cause, "sqlstate", None)
        if state == "57014":
            return problem(503, "too long", "this took too long and was ended; ask for less of it"), {
                "Retry-After": "5"
            }
        if state == "55P03":
            sentence = "somebody else is changing the same just now; try again"
            return problem(503, "busy", sentence), {"Retry-After": "2"}
        if not isinstance(cause, psycopg.Error) or of_the_database(cause):
            sentence = "the database does not answer just now; try again"
            return problem(503, "database", sentence), {"Retry-After": "2"}
    if isinstance(error, IntegrityError):
        return problem(409, "conflict", "this does not go together with what is there by now; look at it again"), {}
    if isinstance(error, DataError) or isinstance(cause, psycopg.DataError):
        return problem(400, "invalid", "a value is beyond what can be kept, or holds a character that cannot be"), {}
    if isinstance(error, DatabaseError):
        return problem(500, "failed", "the server failed; the number finds the line in its log"), {}
    return problem(500, "failed", "the server failed; the number finds the line in its log"), {}


def handler(error: Exception, context: dict[str, Any]) -> Response:
    """Every error of the API, those that nobody expected too."""
    body, headers = of(error)
    request: Request = context["request"]
    note(body, str(request.method), request.path, error if body["status"] == 500 else None)
    return Response(body, body["status"], headers=headers, content_type=CONTENT_TYPE)


def answer(status: int, code: str, sentence: str, request: HttpRequest, error: Exception | None = None) -> HttpResponse:
    """An error outside of the views."""
    body = problem(status, code, sentence)
    note(body, str(request.method), request.path, error)
    return JsonResponse(body, status=status, content_type=CONTENT_TYPE)


def not_found(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    return answer(404, "not found", "there is nothing here by this name", request)


def failed(request: HttpRequest) -> HttpResponse:
    return answer(500, "failed", "the server failed; the number finds the line in its log", request)


def bad(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    return answer(400, "invalid", "this request cannot be read", request)


def forbidden(request: HttpRequest, exception: Exception | None = None) -> HttpResponse:
    return answer(403, "permission denied", "this is not allowed", request)


class Readable:
    """Turns away requests whose address holds what no text can: NUL, half characters.

    Errors of Django become problems.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        texts = [request.path, *(text for name in request.GET for text in (name, *request.GET.getlist(name)))]
        if any("\0" in text or not text.isascii() and _broken(text) for text in texts):
            return answer(400, "invalid", "the address holds a character that is none", request)
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if not request.path.startswith("/api/"):
            return None
        body, headers = of(error)
        note(body, str(request.method), request.path, error if body["status"] == 500 else None)
        return JsonResponse(body, status=body["status"], headers=headers, content_type=CONTENT_TYPE)


def _broken(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return True
    return "\N{REPLACEMENT CHARACTER}" in text
