"""How many examples a property is tried on, and with which seeds.

The profile `suite` (make test, CI) tries the same stated number of examples each time. `deep` (make deep) tries ten times as
many with new seeds each time, and prints a falsifying example as code, to be kept with `@example`. Neither has a deadline, nor
does a slow machine fail a health check: a test asserts no time.
"""

from __future__ import annotations

import os

from hypothesis import HealthCheck, settings

DEEP = os.environ.get("HYPOTHESIS_PROFILE") == "deep"
_TIMED = [HealthCheck.too_slow]

settings.register_profile("suite", derandomize=True, database=None, deadline=None, suppress_health_check=_TIMED)
settings.register_profile("deep", deadline=None, print_blob=True, suppress_health_check=_TIMED, max_examples=1000)
settings.load_profile("deep" if DEEP else "suite")


def examples(number: int, deep: int = 0) -> settings:
    """So many examples in the suite, ten times as many, or `deep`, in a deep search."""
    return settings(max_examples=(deep or number * 10) if DEEP else number)


def seeds(number: int) -> range:
    """Seeds for worlds that a test makes by itself: in the suite always the same, in a deep search others in each round."""
    first = int(os.environ.get("SALT_MIRROR_SEED", "0"))  # one for all workers, which have to collect the same tests
    return range(first, first + number)
