"""Small files that one process writes and others read meanwhile."""

from __future__ import annotations

import json
import os
from pathlib import Path


def write_whole(path: Path, found: object) -> None:
    """JSON into a file that is whole at every moment: whoever reads it has the old one or the new one."""
    fresh = path.with_name(f"{path.name}-new")
    fresh.write_text(json.dumps(found))
    os.replace(fresh, path)
