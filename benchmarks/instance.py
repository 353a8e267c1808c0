"""A database of its own for a benchmark, gone afterwards."""

from __future__ import annotations

import os
import shutil
import signal
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from server.instance.instance import Instance
from server.instance.processes import end
from server.runner import stack


def say(text: str) -> None:
    """What is being done, beside the figures."""
    print(text, file=sys.stderr, flush=True)


@contextmanager
def own_database(kept: Path | None = None) -> Iterator[Instance]:
    """A new database with its tables, and Django set up on it. The broker, if one is started, is stopped as well.

    kept: a folder in which the database stays for the next time.
    """
    folder = kept or Path(tempfile.mkdtemp(prefix="oculum-bench-", dir="/var/tmp"))
    folder.mkdir(exist_ok=True)
    os.environ.update(
        {
            "OCULUM_DATA": str(folder),
            "OCULUM_PORT": str(stack.free_ports()),
            "OCULUM_DATABASE": "bench",
            "OCULUM_MESSAGES_PER_MINUTE": "100000000",
            "DJANGO_SETTINGS_MODULE": "server.settings",
        }
    )
    for name in ("OCULUM_DATABASE_PORT", "OCULUM_BROKER_PORT"):
        os.environ.pop(name, None)
    instance = Instance.from_environment()
    for part in ("", "run", "log", "secrets"):
        (folder / part).mkdir(exist_ok=True)
        (folder / part).chmod(0o711)
    try:
        stack.start_postgres(instance)
        stack.make_database(instance)
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)
        yield instance
    finally:
        end(folder, "broker")
        end(folder, "postgres", signal.SIGINT, 60)
        if kept is None:
            shutil.rmtree(folder, ignore_errors=True)
