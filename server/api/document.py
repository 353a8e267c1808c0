"""What the OpenAPI document says besides what the views do: the shape of errors, ETags, and paths that are not
Django's.
"""

from __future__ import annotations

from typing import Any

PROBLEM = {
    "type": "object",
    "description": "A problem document (RFC 9457). What belongs to a kind of problem stands beside these.",
    "properties": {
        "type": {"type": "string", "description": "the kind, as a name"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "what happened and what to do, as a sentence"},
        "instance": {"type": "string"},
        "code": {"type": "string", "description": "the kind as a word or two"},
        "number": {"type": "string", "description": "finds the line in the server's log"},
    },
    "required": ["type", "title", "status", "detail", "instance", "code", "number"],
    "additionalProperties": True,
}
REFUSED = {
    "description": "refused, with the reason",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
}
IF_MATCH = {
    "name": "If-Match",
    "in": "header",
    "schema": {"type": "string"},
    "description": "the ETag that was seen: refused with 412 where the thing has changed since",
}
REVISED = {
    "/api/v1/sites/{name}",
    "/api/v1/types/{key}",
    "/api/v1/devices/{name}",
    "/api/v1/fences/{ident}",
}


def complete(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """A hook of the document's maker."""
    result.setdefault("components", {}).setdefault("schemas", {})["Problem"] = PROBLEM
    for path, operations in result["paths"].items():
        for method, operation in operations.items():
            operation["responses"]["default"] = REFUSED
            if path in REVISED and method in ("patch", "delete"):
                operation.setdefault("parameters", []).append(IF_MATCH)
    result["paths"]["/in/"] = {
        "post": {
            "operationId": "send_message",
            "tags": ["intake"],
            "description": (
                "One message, its payload as the body. 202 means committed."
                " Needs `Authorization: Bearer ocd_...`, the device's key."
            ),
            "parameters": [
                {
                    "name": "for",
                    "in": "query",
                    "schema": {"type": "string", "maxLength": 63},
                    "description": "a gateway or an onboarding key names the device it speaks for",
                }
            ],
            "requestBody": {
                "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}
            },
            "responses": {"202": {"description": "committed"}, "default": REFUSED},
            "security": [],
        }
    }
    result["paths"]["/live/"] = {
        "get": {
            "operationId": "live_feed",
            "tags": ["live"],
            "description": ("A WebSocket of changes. `?since=N` goes on after frame N, or answers `resync`. "),
            "parameters": [{"name": "since", "in": "query", "schema": {"type": "integer"}}],
            "responses": {"101": {"description": "switching protocols"}},
        }
    }
    result["paths"]["/live/readings/"] = {
        "get": {
            "operationId": "live_readings",
            "tags": ["live"],
            "description": (
                "Readings with their values as they come, of chosen devices and fields, as a WebSocket or, for a plain"
                " GET, as lines of JSON that do not end. `?after=MARK` goes on from a mark that was told."
            ),
            "parameters": [
                {"name": name, "in": "query", "schema": {"type": "string"}}
                for name in ("device", "q", "type", "site", "gateway", "label", "field", "after")
            ],
            "responses": {
                "101": {"description": "switching protocols"},
                "200": {"description": "frames, one a line", "content": {"application/x-ndjson": {}}},
                "default": REFUSED,
            },
        }
    }
    result["paths"]["/healthz"] = {
        "get": {
            "operationId": "health",
            "tags": ["fleet"],
            "description": "Which parts do their work, and what keeps the others from it. 200 where all do.",
            "responses": {
                "200": {"description": "all parts work"},
                "503": {"description": "some do not; the body says which"},
            },
            "security": [],
        }
    }
    return result
