"""What all tests share."""

from __future__ import annotations

from hypothesis import HealthCheck, settings

# Machines differ; what is slow is measured by benchmarks.
# Examples are other ones each time; so many that the whole test is done in half an hour.
settings.register_profile("untimed", deadline=None, max_examples=45, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")
