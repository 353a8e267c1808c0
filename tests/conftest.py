"""What all tests share."""

from __future__ import annotations

from hypothesis import HealthCheck, settings

# Machines differ; what is slow is measured by benchmarks.
settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")
