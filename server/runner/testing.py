"""`./oculum test`: style, types, core, server, web, browser; each stage by itself when named."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import typer

from .instance import ROOT

WEB = ROOT / "web"


def run(*command: str, cwd: Path = ROOT, environment: dict[str, str] | None = None) -> bool:
    return (
        subprocess.run(
            list(command), cwd=cwd, env={**os.environ, "PYTHONHASHSEED": "0", **(environment or {})}, check=False
        ).returncode
        == 0
    )


def python(*arguments: str, environment: dict[str, str] | None = None) -> bool:
    return run(sys.executable, *arguments, environment=environment)


def npx(*arguments: str) -> bool:
    return run("npm", "exec", "--silent", "--", *arguments, cwd=WEB)


def style() -> bool:
    folders = ["core", "server", "demo", "benchmarks", "tests"]
    examples = sorted(str(p.relative_to(ROOT)) for p in (ROOT / "examples").glob("*.ocu"))
    return all(
        [
            python("-m", "ruff", "format", "--check", "-q", *folders),
            python("-m", "ruff", "check", "-q", *folders),
            npx("prettier", "--check", "--log-level", "warn", "src"),
            npx("eslint", "src", "--max-warnings", "0"),
            python("-m", "server.runner", "format", "--check", *examples),
        ]
    )


def types() -> bool:
    """Both languages, and that the front end's types are those of the API as it is."""
    document, fresh = (
        Path("/tmp") / f"oculum-schema-{os.getpid()}.yml",
        Path("/tmp") / f"oculum-schema-{os.getpid()}.d.ts",
    )
    try:
        data = {"OCULUM_DATA": str(Path("/tmp") / f"oculum-types-{os.getpid()}")}
        good = python("-m", "mypy", environment=data) and npx("tsc", "--noEmit")
        good = good and python("-m", "server.manage", "spectacular", "--file", str(document), environment=data)
        good = good and npx("openapi-typescript", str(document), "-o", str(fresh))
        if good and fresh.read_text() != (WEB / "src/api/schema.d.ts").read_text():
            typer.echo("web/src/api/schema.d.ts is not what the API says: run `./oculum api-types`", err=True)
            return False
        return good
    finally:
        document.unlink(missing_ok=True)
        fresh.unlink(missing_ok=True)


STAGES: dict[str, Callable[[], bool]] = {
    "style": style,
    "types": types,
    "core": lambda: python("-m", "pytest", "tests/core"),
    "server": lambda: python("-m", "pytest", "tests/server", "tests/docs"),
    "web": lambda: npx("vitest", "run"),
    "operation": lambda: python("-m", "pytest", "tests/operation"),
    "browser": lambda: python("-m", "pytest", "tests/browser"),
}


def run_tests(only: list[str]) -> int:
    """Runs the stages, all of them even if one fails. Returns the exit code."""
    strange = [name for name in only if name not in STAGES]
    if strange:
        typer.echo(f"oculum: there is no stage `{strange[0]}`: choose from {', '.join(STAGES)}", err=True)
        return 2
    found: dict[str, tuple[bool, float]] = {}
    for name in only or STAGES:
        typer.echo(f"== {name}", err=True)
        began = time.monotonic()
        found[name] = (STAGES[name](), time.monotonic() - began)
    for name, (good, took) in found.items():
        typer.echo(f"{name:8} {'passed' if good else 'FAILED'} in {took:.0f} s", err=True)
    failed = sum(not good for good, _ in found.values())
    typer.echo(f"{len(found) - failed} passed, {failed} failed")
    return int(failed > 0)
