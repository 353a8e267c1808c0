"""Adds the paths that are not Django's to the OpenAPI document."""

from __future__ import annotations

from typing import Any


def add_hot_paths(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    error = {"description": "refused, with the reason", "content": {"application/json": {"schema": {"type": "object"}}}}
    result["paths"]["/in/"] = {
        "post": {
            "operationId": "send_message",
            "tags": ["intake"],
            "description": "One message, its payload as the body. 202 means committed. Needs `Authorization: Bearer ocd_...`, the device's key.",
            "parameters": [
                {
                    "name": "for",
                    "in": "query",
                    "schema": {"type": "string"},
                    "description": "a gateway or an onboarding key names the device it speaks for",
                }
            ],
            "requestBody": {
                "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}
            },
            "responses": {"202": {"description": "committed"}, "401": error, "413": error, "429": error, "507": error},
            "security": [],
        }
    }
    result["paths"]["/live/"] = {
        "get": {
            "operationId": "live_feed",
            "tags": ["live"],
            "description": "A WebSocket of changes. `?since=N` goes on after frame N, or answers `resync`. Needs a session.",
            "parameters": [{"name": "since", "in": "query", "schema": {"type": "integer"}}],
            "responses": {"101": {"description": "switching protocols"}},
        }
    }
    return result
