"""Photos of devices: pictures only, bounded, given out as pictures and nothing else."""

from __future__ import annotations

from typing import Any

import pytest

from tests.server.test_api import V1, Client, signed_in
from tests.server.test_register import asked
from tests.server.world import World

PNG = b"\x89PNG\r\n\x1a\n" + bytes(range(200))
JPEG = b"\xff\xd8\xff\xe0" + b"\0" * 50
WEBP = b"RIFF\x10\0\0\0WEBP" + b"\1" * 20


def put(client: Client, data: bytes, kind: str = "image/jpeg", name: str = "pod-0") -> Any:
    return client.generic("PUT", f"{V1}devices/{name}/photo", data, content_type=kind)


def test_a_photo_is_kept_given_out_and_taken_away(world: World) -> None:
    client, viewer = signed_in(world, "engineer"), signed_in(world, "viewer")
    assert asked(viewer, "devices/pod-0")["photo_at"] is None
    assert viewer.get(V1 + "devices/pod-0/photo").status_code == 404
    for data, kind in ((PNG, "image/png"), (JPEG, "image/jpeg"), (WEBP, "image/webp")):
        assert put(client, data, "image/jpeg").status_code == 204
        given = viewer.get(V1 + "devices/pod-0/photo")
        assert (given.status_code, given.content, given["Content-Type"]) == (200, data, kind)
        assert given["Content-Security-Policy"] == "default-src 'none'; sandbox"
        assert given["X-Content-Type-Options"] == "nosniff"
    assert asked(viewer, "devices/pod-0")["photo_at"] is not None
    assert put(viewer, PNG).status_code == 403
    assert client.delete(V1 + "devices/pod-0/photo").status_code == 204
    assert client.delete(V1 + "devices/pod-0/photo").status_code == 204
    assert viewer.get(V1 + "devices/pod-0/photo").status_code == 404
    told = [r["what"] for r in asked(client, "record", about="pod-0")["results"]]
    assert told == ["removed photo", "set photo", "set photo", "set photo"]


@pytest.mark.parametrize(
    ("data", "kind", "status", "said"),
    [
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "image/svg+xml", 400, "begins as none of them"),
        (b"<html><script>1</script>", "image/png", 400, "begins as none of them"),
        (b"", "image/png", 400, "begins as none of them"),
        (PNG + b"x" * 1_000_000, "image/png", 413, "at most 1,000,000 bytes"),
        (PNG, "application/octet-stream", 415, "Unsupported media type"),
        (b'{"a": 1}', "application/json", 415, "Unsupported media type"),
    ],
)
def test_what_is_no_picture_is_refused(world: World, data: bytes, kind: str, status: int, said: str) -> None:
    client = signed_in(world, "engineer")
    refused = put(client, data, kind)
    assert refused.status_code == status, refused.content
    assert said in refused.json()["detail"]
    assert world.ask("select count(*) from fleet_photo") == [(0,)]
    assert put(client, PNG, name="nobody").status_code == 404
