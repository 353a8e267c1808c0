"""The broker's accounts, written from the database, which is the truth.

A password file with one salted line a device and one pattern for topics: a device may publish below
its own name and read what is sent to it, nothing else. The broker takes both anew on a signal.
"""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
import shutil
import signal
from pathlib import Path

from server.runner.instance import Instance

INTAKE = "oculum-intake"
ITERATIONS = 101  # keys carry 160 random bits, so that stretching would add nothing

ACCESS = f"""# Written by Oculum.
user {INTAKE}
topic read up/#

pattern write up/%u
pattern write up/%u/#
pattern read down/%u/#
"""


def broker_hash(key: str) -> str:
    """A key in the broker's form: PBKDF2-HMAC-SHA512."""
    salt = secrets.token_bytes(12)
    hashed = hashlib.pbkdf2_hmac("sha512", key.encode(), salt, ITERATIONS)
    return f"$7${ITERATIONS}${base64.b64encode(salt).decode()}${base64.b64encode(hashed).decode()}"


def write_accounts(instance: Instance, hashes: list[tuple[str, str]], owner: str | None = None) -> bool:
    """The password and access files, each replaced in one step. False if they were so already."""
    folder = instance.folder / "mosquitto"
    own = instance.private("broker.json") or {}
    if "hash" not in own:
        key = secrets.token_urlsafe(32)
        own = {"key": key, "hash": broker_hash(key)}
        instance.keep_private("broker.json", own)
    lines = [f"{INTAKE}:{own['hash']}", *(f"{name}:{hashed}" for name, hashed in hashes)]
    changed = False
    for name, text in (("passwords", "\n".join(lines) + "\n"), ("access", ACCESS)):
        path = folder / name
        if not path.exists() or path.read_text() != text:
            _replace(path, text, owner)
            changed = True
    return changed


def _replace(path: Path, text: str, owner: str | None) -> None:
    fresh = path.with_suffix(".new")
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        file.write(text)
    if os.geteuid() == 0:
        if owner is None and path.exists():
            about = path.stat()
            os.chown(fresh, about.st_uid, about.st_gid)
        elif owner is not None:
            shutil.chown(fresh, owner, owner)
    os.replace(fresh, path)


def reload_broker(instance: Instance) -> bool:
    """Tells the broker to read its accounts anew; False if it is not running here."""
    try:
        pid = int((instance.folder / "run" / "broker.pid").read_text())
        os.kill(pid, signal.SIGHUP)
    except (OSError, ValueError):
        return False
    return True


def intake_password(instance: Instance) -> str:
    found = instance.private("broker.json")
    if found is None:
        raise RuntimeError("the broker's accounts have not been written yet")
    return found["key"]
