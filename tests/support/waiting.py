"""Waiting for something to come about, and no longer."""

from __future__ import annotations

import time
from collections.abc import Callable


def until(came: Callable[[], object], seconds: float = 60.0) -> None:
    """Looks again and again whether something has come about; fails when it has not within so many seconds."""
    over_at = time.monotonic() + seconds
    while not came():
        assert time.monotonic() < over_at, f"it did not come about within {seconds} s"
        time.sleep(0.02)
