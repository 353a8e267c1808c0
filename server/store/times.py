"""Moments: microseconds since 1970, as the core has them, and what PostgreSQL and people read."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def moment(us: int) -> datetime:
    """Microseconds since 1970 as a time, clamped to what PostgreSQL and Python can hold."""
    return EPOCH + timedelta(microseconds=min(max(us, -62_135_596_800_000_000), 253_402_300_799_000_000))


def us(at: datetime) -> int:
    """A time as microseconds since 1970."""
    return round(at.timestamp() * 1e6)


def iso(at: int) -> str:
    """Microseconds since 1970 as RFC 3339 says them."""
    return moment(at).isoformat().replace("+00:00", "Z")


US = "(extract(epoch from {}) * 1000000)::bigint"  # the same in SQL
