"""One instance of Oculum: its data folder, ports, secrets. Two checkouts have two of them."""

from __future__ import annotations

import json
import os
import secrets
import stat
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent.parent
MOST_ENGINES = 8
ENGINES = ["engine", *(f"engine-{number}" for number in range(2, MOST_ENGINES + 1))]


@dataclass(frozen=True)
class Instance:
    """Where everything of one instance is. All servers listen on loopback."""

    folder: Path
    web_port: int
    database_port: int
    broker_port: int
    database_name: str = "oculum"
    database_host: str = "127.0.0.1"
    engines: int = 1

    @classmethod
    def from_environment(cls) -> Instance:
        """From OCULUM_DATA, OCULUM_PORT, OCULUM_DATABASE_PORT, OCULUM_BROKER_PORT, OCULUM_DATABASE and
        OCULUM_ENGINES. Raises ValueError where a number is none.
        """
        folder = Path(os.environ.get("OCULUM_DATA") or ROOT / "var").resolve()
        web = int(os.environ.get("OCULUM_PORT") or 8640)
        return cls(
            folder,
            web,
            int(os.environ.get("OCULUM_DATABASE_PORT") or web + 1),
            int(os.environ.get("OCULUM_BROKER_PORT") or web + 2),
            os.environ.get("OCULUM_DATABASE") or "oculum",
            engines=int(os.environ.get("OCULUM_ENGINES") or 1),
        )

    def environment(self) -> dict[str, str]:
        """What a process of this instance needs to find it."""
        return {
            **os.environ,
            "OCULUM_DATA": str(self.folder),
            "OCULUM_PORT": str(self.web_port),
            "OCULUM_DATABASE_PORT": str(self.database_port),
            "OCULUM_BROKER_PORT": str(self.broker_port),
            "OCULUM_DATABASE": self.database_name,
            "OCULUM_ENGINES": str(self.engines),
            "DJANGO_SETTINGS_MODULE": "server.settings",
        }

    @property
    def engine_names(self) -> list[str]:
        """The processes among which the stream is divided."""
        return ENGINES[: self.engines]

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.web_port}/"

    def database_url(self, name: str | None = None) -> str:
        """A connection string; the password travels in it, so it is never printed."""
        return (
            f"host={self.database_host} port={self.database_port} dbname={name or self.database_name} user=oculum"
            f" password={self.secret('database')}"
        )

    def secret(self, name: str) -> str:
        """A random secret of this instance, made at first use, readable by its owner only."""
        path = self.folder / "secrets" / name
        try:
            return path.read_text()
        except FileNotFoundError:
            pass
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        value = secrets.token_urlsafe(32)
        try:
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, stat.S_IRUSR | stat.S_IWUSR)
        except FileExistsError:
            return path.read_text()
        with os.fdopen(handle, "w") as file:
            file.write(value)
        return value

    def keep_private(self, name: str, content: object) -> None:
        """Writes JSON beside the secrets, readable by its owner only."""
        path = self.folder / "secrets" / name
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
            json.dump(content, file)

    def private(self, name: str) -> dict[str, str] | None:
        path = self.folder / "secrets" / name
        return json.loads(path.read_text()) if path.exists() else None
