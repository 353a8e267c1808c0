"""A short run of what `./oculum bench faults` does at length."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from server.instance.instance import ROOT


def test_parts_are_hit_at_random_and_nothing_is_lost_or_doubled() -> None:
    environment = {name: value for name, value in os.environ.items() if not name.startswith("OCULUM_")}
    command = [sys.executable, "-m", "server.runner", "bench", "faults", "--rounds", "4", "--json"]
    done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, timeout=500, check=False)
    assert done.returncode == 0, done.stderr[-4000:]
    figures = json.loads(done.stdout.strip().split("\n")[-1])["figures"]
    assert (figures["rounds"], figures["lost"], figures["doubled"], figures["engine_differs"]) == (4, 0, 0, 0), (
        f"{figures}\n{done.stderr[-3000:]}"
    )
    assert figures["acknowledged"] > 500
