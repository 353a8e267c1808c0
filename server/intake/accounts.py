"""The broker's accounts, written from the database, which is the truth.

A password file with one salted line a device, one pattern for topics (a device may publish below its own name and
read what is sent to it, nothing else), and what each may send in a minute. The broker takes all three anew on a
signal. A client is known to the broker by its account's name, whatever client id it gives.
"""

from __future__ import annotations

import os
import re
import secrets
import shutil
import signal
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from server.instance.instance import Instance
from server.instance.processes import alive
from server.rules.keys import broker_hash

INTAKE = "oculum-intake"
TAKEN, REFUSED = "oculum/taken", "oculum/refused"
SOUND = re.compile(r"[a-z][a-z0-9-]{1,62}")

ACCESS = f"""# Written by Oculum.
user {INTAKE}
topic read up/#
topic read {REFUSED}
topic write {TAKEN}

pattern write up/%u
pattern write up/%u/#
pattern read down/%u/#
"""


def reserved(name: str) -> bool:
    """Whether a name is kept for Oculum's own accounts."""
    return name == "oculum" or name.startswith("oculum-")


@dataclass(frozen=True)
class Account:
    """A device, or an onboarding channel, at the broker. weight: how many times what one device may send."""

    name: str
    hashed: str
    weight: int = 1


@dataclass(frozen=True)
class Allowed:
    """What one device may send in a minute."""

    messages: int
    size: int


def write_accounts(instance: Instance, accounts: Sequence[Account], allowed: Allowed, owner: str | None = None) -> bool:
    """The broker's files, each replaced in one step. False if they were so already.

    An account by a name that is Oculum's own, or that no device can have, is left out, whatever the database says.
    """
    sound = [a for a in accounts if SOUND.fullmatch(a.name) and not reserved(a.name)]
    limits = [f"* {allowed.messages} {allowed.size}"]
    limits += [f"{a.name} {allowed.messages * a.weight} {allowed.size * a.weight}" for a in sound if a.weight != 1]
    texts = {
        "passwords": "\n".join([_own_line(instance), *(f"{a.name}:{a.hashed}" for a in sound)]) + "\n",
        "access": ACCESS,
        "limits": "\n".join(limits) + "\n",
    }
    changed = [_written(instance.folder / "mosquitto" / name, text, owner) for name, text in texts.items()]
    return any(changed)


def keep_own_account(instance: Instance, allowed: Allowed, owner: str | None = None) -> None:
    """Sees to it that a broker that starts now lets intake in; devices' accounts stay as they were last written."""
    path = instance.folder / "mosquitto" / "passwords"
    if not path.exists():
        write_accounts(instance, [], allowed, owner)
        return
    others = [line for line in path.read_text().splitlines() if line and not line.startswith(f"{INTAKE}:")]
    _written(path, "\n".join([_own_line(instance), *others]) + "\n", owner)
    _written(path.with_name("access"), ACCESS, owner)
    if not path.with_name("limits").exists():
        _written(path.with_name("limits"), f"* {allowed.messages} {allowed.size}\n", owner)


def _own_line(instance: Instance) -> str:
    own = instance.private("broker.json") or {}
    if "hash" not in own:
        key = secrets.token_urlsafe(32)
        own = {"key": key, "hash": broker_hash(key)}
        instance.keep_private("broker.json", own)
    return f"{INTAKE}:{own['hash']}"


def _written(path: Path, text: str, owner: str | None) -> bool:
    """Replaces a file in one step, its owner kept; False if it says so already."""
    if path.exists() and path.read_text() == text:
        return False
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
    return True


def reload_broker(instance: Instance) -> bool:
    """Tells the broker to read its accounts anew; False if it is not running here."""
    pid = alive(instance.folder, "broker")
    if pid is None:
        return False
    try:
        os.kill(pid, signal.SIGHUP)
    except OSError:
        return False
    return True


def intake_password(instance: Instance) -> str:
    found = instance.private("broker.json")
    if found is None:
        raise RuntimeError("the broker's accounts have not been written yet")
    return found["key"]
