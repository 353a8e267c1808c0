"""What all tests share."""

from __future__ import annotations

from hypothesis import HealthCheck, settings

from tests.often import examples

# Machines differ; what is slow is measured by benchmarks.
settings.register_profile(
    "untimed", deadline=None, max_examples=examples(60), suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("untimed")
