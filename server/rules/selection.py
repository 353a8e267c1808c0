"""Which devices use which version of a definition: all, those chosen to go first, those held back."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


def above(site: int | None, parents: Mapping[int, int | None]) -> list[int]:
    """A site and those it lies in, the nearest first. parents: the site above each; a ring among them has an end."""
    found: list[int] = []
    while site is not None and site not in found:
        found.append(site)
        site = parents.get(site)
    return found


@dataclass(frozen=True)
class Selection:
    """Devices that have all the labels, sit at the site or below it, and fall into the share (percent).

    Whether a device falls into a share goes by its name alone: a wider share keeps those of a smaller one.
    """

    labels: tuple[tuple[str, str], ...] = ()
    site: int | None = None
    share: int = 100

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Selection:
        return cls(
            tuple(sorted((str(k), str(v)) for k, v in (body.get("labels") or {}).items())),
            body.get("site"),
            int(body.get("share") or 100),
        )

    def as_dict(self) -> dict[str, Any]:
        return {"labels": dict(self.labels), "site": self.site, "share": self.share}

    def takes(self, name: str, labels: Mapping[str, str], site: int | None, parents: Mapping[int, int | None]) -> bool:
        """Whether a device is chosen. parents: the site above each site."""
        if any(labels.get(k) != v for k, v in self.labels) or zlib.crc32(name.encode()) % 100 >= self.share:
            return False
        return self.site is None or self.site in above(site, parents)
