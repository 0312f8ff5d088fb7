"""Waiting for something to come about, and no longer. The bound is part of no test: it keeps a broken run from hanging."""

from __future__ import annotations

import time
from collections.abc import Callable

PATIENCE_S = 300.0
"""Far above anything that a slow and busy machine needs."""


def until(came: Callable[[], object]) -> None:
    """Looks again and again whether something has come about; fails when it never does."""
    over_at = time.monotonic() + PATIENCE_S
    while not came():
        assert time.monotonic() < over_at, f"it did not come about within {PATIENCE_S} s"
        time.sleep(0.02)
