"""Errors as values: a code, a sentence, the place. The same shape everywhere in the API."""

from __future__ import annotations

from typing import Any

from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import exception_handler


class Refused(exceptions.APIException):
    """A request that cannot be carried out, with the reason for the person who asked."""

    status_code = 400

    def __init__(self, code: str, message: str, status: int = 400, **more: Any) -> None:
        super().__init__(message, code)
        self.status_code = status
        self.body = {"error": {"code": code, "message": message, **more}}


def words(found: Any) -> str:
    """What is wrong with a field, or with the parts of one, as a sentence."""
    if isinstance(found, dict):
        return "; ".join(f"{name}: {words(part)}" for name, part in found.items() if part)
    return " ".join(words(part) for part in found if part) if isinstance(found, list) else str(found)


def handler(error: Exception, context: dict[str, Any]) -> Response | None:
    response = exception_handler(error, context)
    if response is None:
        return None
    if isinstance(error, Refused):
        response.data = error.body
    elif isinstance(error, exceptions.ValidationError):
        fields = error.detail if isinstance(error.detail, dict) else {"": error.detail}
        flat = {name: words(found) for name, found in fields.items()}
        sentence = "; ".join(f"{name}: {text}" if name else text for name, text in flat.items())
        response.data = {"error": {"code": "invalid", "message": sentence, "fields": flat}}
    elif isinstance(error, exceptions.APIException):
        response.data = {"error": {"code": error.default_code, "message": str(error.detail)}}
    else:
        response.data = {"error": {"code": "not found", "message": "there is nothing here by this name"}}
    return response
